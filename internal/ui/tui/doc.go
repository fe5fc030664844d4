// Package tui is the interactive review: record types, findings in their groups, and the
// chosen finding field by field, on a terminal of at least 80 columns and 24 lines.
//
// The contract: what is decided is durable before it is shown as decided. Nothing is told by
// colour alone. Whatever a value holds, it moves nothing on the screen. A finding is read in
// full when it is looked at, so that many open at once cost no time.
package tui
