// Package verify reads the target after something was written: each record has to hold what was
// approved and else what it held before, and what was not to be written is as it was. Where the
// answer was lost, it finds out from the target what came of it.
//
// The contract: nothing is written here, and nothing is believed but what the target says.
//
// Where to look: readback.go for what was written, watch.go for what was not, found.go for answers
// that were lost.
package verify
