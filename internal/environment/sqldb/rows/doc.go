// Package rows reads, locates and writes records over any dialect of SQL.
//
// The contract: references are brought to keys and back with a handful of queries for a
// batch, through any depth. What is read in one session is of one moment where the engine
// offers that. A refused record is named and leaves the transaction usable; after any other
// error nothing more is done with it. Nothing is ever deleted.
//
// Where to look: database.go opens and ends; session.go is one transaction; read.go with
// form.go and value.go brings rows to records; keys.go goes from internal ids to keys, and
// locate.go from keys to records; write.go with ids.go writes,
// coding.go brings times with and without a zone together, standin.go closes circles,
// stamps.go fills in what nothing else stamps, room.go bounds what is written at a time; judge.go tries values against
// rules, probe.go looks at data for a draft, script.go writes statements for others.
package rows
