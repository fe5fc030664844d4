// Package write makes changes of what is approved and carries them out in a transaction.
//
// The contract: only approved fields are written, in the order that was given. What the target
// refuses is collected and named; then nothing is written at all.
package write
