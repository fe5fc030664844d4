// Package journal imports into a target without transactions: record by record, or several that
// do not need each other, each in the docket's journal before and after it is written, and read
// back at once.
//
// The contract: what was broken off is gone on with, never repeated blindly. Of a write of which
// nobody knows whether it happened, the target is read to find out.
//
// Where to look: steps.go for one at a time, together.go for several.
package journal
