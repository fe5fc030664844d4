// Package choose makes selections ready and finds what belongs to what was chosen.
//
// The contract: a selection names areas, types, conditions, dates, patterns and what is left
// out; everything in it that the catalog does not know is refused with the nearest word.
// Related records are found in rounds, by keys and a batch at a time, and kept on disk; the
// same data give the same result whatever the order.
package choose
