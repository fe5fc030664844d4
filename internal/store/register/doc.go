// Package register keeps for a workspace what became of its dockets, so that nobody has to
// open all of them to know: a summary of each (register.jsonl), and what was last decided
// about each record of a pair of environments (decided.db). It knows as well which dockets
// and exports are the workspace's own, by their sums (seals.go, exports.go): nothing else is
// imported, or believed about a source.
//
// The contract: what it says of a docket is believed as long as the docket's file has the
// size and time that it had then; else the docket is read again, it alone. A docket that
// cannot be read is given with its error and stops nobody. Summaries and decided.db can be
// made anew from the dockets, seals cannot. The register is appended to; the last line about
// a docket counts.
package register
