// Package rename points out records that are probably one and the same under two keys: one
// that only the source has and one that only the target has, whose other fields mostly
// agree.
//
// The contract: candidates are given one after the other; Likely gives each at most one
// partner, the best, and never two the same. A field that very many records share says
// nothing. The time follows the number of records, not its square.
package rename

import (
	"cmp"
	"slices"
	"unicode/utf8"

	"anagram/internal/core/record"
)

// Finder collects the records of one type.
type Finder struct {
	sources, targets []candidate
}

type candidate struct {
	id     int64
	values []record.Value
}

// Pair is a record of either side that look like one.
type Pair struct {
	Source, Target int64
	Fields         int // that agree
	Of             int // that are compared
}

// Source adds a record that only the source has.
func (f *Finder) Source(id int64, values []record.Value) {
	f.sources = append(f.sources, candidate{id, values})
}

// Target adds a record that only the target has.
func (f *Finder) Target(id int64, values []record.Value) {
	f.targets = append(f.targets, candidate{id, values})
}

const (
	// common is how many records may share a value before it says nothing.
	common = 20
	// telling is how long a text is that is hardly the same by chance.
	telling = 8
	// several is how many fields that agree do as well as a telling one.
	several = 3
	// mostly is how many of a hundred fields have to agree.
	mostly = 70
)

// Likely gives the pairs, the surest first.
func (f *Finder) Likely() []Pair {
	if len(f.sources) == 0 || len(f.targets) == 0 {
		return nil
	}
	type at struct {
		field int
		text  string
	}
	having := map[at][]int{}
	for i, t := range f.targets {
		for n, v := range t.values {
			if says(v) && len(having[at{n, v.Text()}]) <= common {
				having[at{n, v.Text()}] = append(having[at{n, v.Text()}], i)
			}
		}
	}
	var out []Pair
	for _, s := range f.sources {
		shared := map[int]bool{}
		for n, v := range s.values {
			if list := having[at{n, v.Text()}]; says(v) && len(list) <= common {
				for _, i := range list {
					shared[i] = true
				}
			}
		}
		for i := range shared {
			if p, ok := alike(s, f.targets[i]); ok {
				out = append(out, p)
			}
		}
	}
	slices.SortFunc(out, func(a, b Pair) int {
		return cmp.Or(cmp.Compare(b.Fields*a.Of, a.Fields*b.Of), cmp.Compare(b.Fields, a.Fields), cmp.Compare(a.Source, b.Source),
			cmp.Compare(a.Target, b.Target))
	})
	taken := map[int64]bool{}
	return slices.DeleteFunc(out, func(p Pair) bool {
		if taken[p.Source] || taken[p.Target] {
			return true
		}
		taken[p.Source], taken[p.Target] = true, true
		return false
	})
}

// says reports whether a value can tell records apart at all.
func says(v record.Value) bool {
	return !v.IsNull() && !v.IsAbsent() && v.Kind() != record.Boolean && v.Text() != ""
}

func alike(s, t candidate) (Pair, bool) {
	p := Pair{Source: s.id, Target: t.id}
	sure := false
	for i, v := range s.values {
		if v.IsAbsent() || t.values[i].IsAbsent() || v.IsNull() && t.values[i].IsNull() {
			continue
		}
		p.Of++
		if !v.Equal(t.values[i]) {
			continue
		}
		p.Fields++
		sure = sure || v.Kind() == record.Text && utf8.RuneCountInString(v.Text()) >= telling || v.Kind() == record.Bytes
	}
	return p, p.Of > 0 && p.Fields*100 >= p.Of*mostly && (sure || p.Fields >= several)
}
