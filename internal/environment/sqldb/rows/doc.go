// Package rows reads, locates and writes records over any dialect of SQL.
//
// The contract: references are brought to keys and back with a handful of queries for a
// batch, through any depth. What is read in one session is of one moment where the engine
// offers that. A refused record is named and leaves the transaction usable; after any other
// error nothing more is done with it. Nothing is ever deleted.
package rows
