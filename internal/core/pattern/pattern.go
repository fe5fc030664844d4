// Package pattern holds regular expressions that are made when they are first asked for.
// The program has some seventy of them and each run needs a few: made at the start, they would
// take a third of the time in which help appears.
package pattern

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression in the syntax of the package regexp. It may be used by
// several goroutines at once.
type Pattern struct{ made func() *regexp.Regexp }

// Of gives the pattern of a text. It is a constant of the program: one that cannot be read
// panics when it is first used, and a test reads them all.
func Of(text string) *Pattern {
	return &Pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

// MatchString reports whether the pattern is found in a text.
func (p *Pattern) MatchString(text string) bool { return p.made().MatchString(text) }

// Match reports whether the pattern is found in bytes.
func (p *Pattern) Match(text []byte) bool { return p.made().Match(text) }

// FindIndex gives begin and end of the first place in bytes that fits; nil where none does.
func (p *Pattern) FindIndex(text []byte) []int { return p.made().FindIndex(text) }

// FindString gives the first place in a text that fits, "" where none does.
func (p *Pattern) FindString(text string) string { return p.made().FindString(text) }

// FindStringIndex gives begin and end, in bytes, of the first place that fits; nil where none
// does.
func (p *Pattern) FindStringIndex(text string) []int { return p.made().FindStringIndex(text) }

// FindStringSubmatch gives the first place that fits and what its groups hold, nil where none
// does.
func (p *Pattern) FindStringSubmatch(text string) []string { return p.made().FindStringSubmatch(text) }

// FindSubmatch is FindStringSubmatch for bytes.
func (p *Pattern) FindSubmatch(text []byte) [][]byte { return p.made().FindSubmatch(text) }

// FindSubmatchIndex gives begin and end, in bytes, of the first place that fits and of what its
// groups hold; nil where none does.
func (p *Pattern) FindSubmatchIndex(text []byte) []int { return p.made().FindSubmatchIndex(text) }

// FindAllStringSubmatch gives what FindStringSubmatch gives for each place, at most n of them,
// all where n is negative.
func (p *Pattern) FindAllStringSubmatch(text string, n int) [][]string {
	return p.made().FindAllStringSubmatch(text, n)
}

// FindAllStringSubmatchIndex gives begin and end, in bytes, of the places that fit and of what
// their groups hold, at most n of them, all where n is negative.
func (p *Pattern) FindAllStringSubmatchIndex(text string, n int) [][]int {
	return p.made().FindAllStringSubmatchIndex(text, n)
}

// ReplaceAllString puts a text, in which $1 stands for the first group, in each place that fits.
func (p *Pattern) ReplaceAllString(text, by string) string {
	return p.made().ReplaceAllString(text, by)
}
