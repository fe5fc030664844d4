// Package register keeps for a workspace what became of its dockets, so that nobody has to
// open all of them to know: a summary of each (register.jsonl), and what was last decided
// about each record of a pair of environments (decided.db).
//
// The contract: what it says of a docket is believed as long as the docket's file has the
// size and time that it had then; else the docket is read again, it alone. A docket that
// cannot be read is given with its error and stops nobody. Both files can be made anew from
// the dockets. The register is appended to; the last line about a docket counts.
package register
