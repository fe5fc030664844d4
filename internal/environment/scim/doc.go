// Package scim makes an environment of a directory that speaks SCIM 2.0 (RFC 7643, RFC 7644):
// users, groups, who is in which, and whatever other resources it has.
//
// The contract: resource types and their attributes are as the directory's own schemas say.
// Attributes of several values are JSON without an order, members of groups are links of their
// own. What is never given back, such as passwords, is no column. Each resource is written by
// itself, with the version that was read.
//
// Where to look: schema.go reads what the directory says of itself, values.go brings resources
// to rows and back, fetch.go reads, send.go writes.
package scim
