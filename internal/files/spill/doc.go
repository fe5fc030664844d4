// Package spill holds what may not fit in memory: entries that are sorted (Sorter), records
// that are picked (Picked) and rows that wait (Rows).
//
// The contract: a bounded part is in memory, the rest on disk below a folder that the caller
// names; Close removes it, and nothing is left behind. What was put in comes out the same.
// A full disk is an error that says so.
package spill
