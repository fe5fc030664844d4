// Package engine says what a dialect of SQL must tell, and has what several of them share:
// statements with marks, facts about tables, declared limits, rules, coding.
//
// The contract: a dialect has no state of its own and changes nothing by itself. What it can
// do beyond the least it declares in Capabilities; nothing is found out by asking for its
// type. It knows no other dialect.
package engine
