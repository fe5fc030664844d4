// Package rows makes an environment of any dialect of SQL: it opens and ends connections and units
// of work, and puts reading, writing and looking together.
//
// The contract: references are brought to keys and back with a handful of queries for a
// batch, through any depth. What is read in one session is of one moment where the engine
// offers that. A refused record is named and leaves the transaction usable; after any other
// error nothing more is done with it. Nothing is removed but what an import made.
//
// Where to look: database.go. What it stands on: query asks, translate goes between ids and keys,
// read and write do what they say, probe looks.
package rows
