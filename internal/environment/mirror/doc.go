// Package mirror makes an environment of a service that is asked for rows and told of
// changes, one request at a time: what is needed of it is kept in a temporary database, which
// then answers as any other database does.
//
// The contract: a service gives rows of sets and takes edits; everything about references,
// keys and forms is left to package rows. What is asked for by key is fetched by key where the
// service can be asked so, else the whole set is. Within a unit of work the records that are
// asked for are fetched anew each time, what they refer to once. Nothing is written in the
// temporary database alone: each change is sent, and what came of one whose answer was lost is
// found out by reading before it is sent again. There are no transactions and no lock; each
// write is sent with the version that was read, where the service has versions.
//
// Where to look: service.go is what a protocol has to offer; mirror.go opens, tables.go keeps
// the temporary database, needs.go finds out what a question needs, work.go writes, settle.go
// finds out what came of lost answers.
package mirror
