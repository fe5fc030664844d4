// Package probe looks at an SQL database for a draft and tries values against its rules, without
// writing anything.
//
// Where to look: probe.go looks at rows, judge.go tries values.
package probe
