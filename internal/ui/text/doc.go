// Package text sets text for people: wrapped to a width, in columns, with numbers, nouns
// and times as one reads them.
//
// The contract: width is counted in columns of a terminal, wide and combining signs
// included. Words are never broken inside, names with hyphens stay whole (which is why the
// libraries' own wrapping does not serve); a single word that is too long stands over. No
// line ends in blanks.
package text
