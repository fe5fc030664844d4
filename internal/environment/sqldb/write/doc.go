// Package write writes records into an SQL database, and makes statements for others to write.
//
// The contract: a change touches exactly one row. A refused record is named and leaves the
// transaction usable; after any other error nothing more is done with it. Nothing is removed but
// what an import made.
//
// Where to look: write.go takes changes in their order, settings.go says what a change stores,
// send.go carries out what waits, many at a time; ids.go makes ids where the database makes none,
// standin.go closes circles, stamps.go fills in what nothing else stamps, pieces.go writes
// attachments, remove.go takes back what was added; room.go bounds what waits; script.go writes
// statements for others.
package write
