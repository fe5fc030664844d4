// Package read streams the records of a type out of an SQL database.
//
// The contract: what is read over one connection is of one moment where the engine offers that.
// Rows are taken in batches; a record that cannot be told is named. Attachments are read when
// they are asked for, in pieces.
//
// Where to look: read.go is the usual way, by batches; lines.go the short one, in which the
// database looks up what references point at; narrow.go is what of a condition the database can
// decide; forms.go keeps how a value was stored, people.go names who changed a record, content.go
// reads attachments.
package read
