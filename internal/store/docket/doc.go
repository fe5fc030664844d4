// Package docket keeps the result of one match and everything that happens to it, in
// one SQLite file that is complete in itself.
//
// The contract: a docket is built beside its place and appears there complete or not
// at all. Findings, checks and needs never change afterwards, which the digest proves;
// all that happens to it is an append-only chain, which the tables are compared with (see
// chain.go). A file of an earlier version is read by the rules of that version, and nothing new
// is decided in it; one of a later version, or with anything in its schema that no program made,
// is refused. How files look is package form, what a match writes package build, what imports
// write package run.
package docket
