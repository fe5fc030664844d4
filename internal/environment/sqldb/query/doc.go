// Package query asks an SQL database over one connection: it describes places once, prepares
// statements once, and reads rows by what some of their columns hold, any number of them.
//
// The contract: values come as they are stored. Nulls are equal to nulls where rows are looked
// up. What an engine says of an error is explained in its own words. Nothing is written.
//
// Where to look: conn.go is the connection, table.go a record type as it stands there, wherein.go
// looks rows up, identity.go is how a row is told.
package query
