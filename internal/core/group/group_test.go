package group

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFindingsThatAreDecidedTogether(t *testing.T) {
	owner := func(to int64, address string, oneSide bool) Tie { return Tie{Owner, to, address, oneSide, false} }
	needs := func(to int64) Tie { return Tie{Needs, to, "", true, false} }
	missing := func(address string) Tie { return Tie{Missing, 0, address, false, false} }
	for _, c := range []struct {
		name     string
		findings []Finding
		groups   []Group
		of       []int
	}{
		{"one alone", []Finding{{ID: 1}, {ID: 2}}, []Group{{Record, 1, ""}, {Record, 2, ""}}, []int{0, 1}},
		{"a new record with its parts and theirs", []Finding{{1, true, nil}, {2, true, []Tie{owner(1, "a/1", true)}}, {3, true, []Tie{owner(2, "b/1", true)}}}, []Group{{Record, 1, ""}}, []int{0, 0, 0}},
		{"what waits for a new record", []Finding{{1, true, nil}, {2, true, []Tie{needs(1)}}, {3, false, []Tie{needs(1)}}}, []Group{{Record, 1, ""}}, []int{0, 0, 0}},
		{"the last that is needed counts", []Finding{{1, true, nil}, {2, true, nil}, {3, true, []Tie{needs(2), needs(1)}}}, []Group{{Record, 1, ""}, {Record, 2, ""}}, []int{0, 1, 1}},
		{"one of another type before one of its own", []Finding{{1, true, nil}, {2, true, []Tie{needs(1), {Needs, 3, "", true, true}}}, {3, true, []Tie{{Needs, 2, "", true, true}, needs(1)}}}, []Group{{Record, 1, ""}}, []int{0, 0, 0}},
		{"a new part of a new owner stays with it", []Finding{{1, true, nil}, {2, true, nil}, {3, true, []Tie{needs(2), owner(1, "a/1", true)}}}, []Group{{Record, 1, ""}, {Record, 2, ""}}, []int{0, 1, 0}},
		{"a new part of a changed owner goes with what it waits for", []Finding{{1, false, nil}, {2, true, nil}, {3, true, []Tie{owner(1, "a/1", false), needs(2)}}}, []Group{{Record, 1, ""}, {Record, 2, ""}}, []int{0, 1, 1}},
		{"changed parts of a record that is none", []Finding{{1, false, []Tie{owner(0, "a/1", false)}}, {2, false, []Tie{owner(0, "a/1", false)}}, {3, false, []Tie{owner(0, "a/2", false)}}},
			[]Group{{OfOwner, 0, "a/1"}, {Record, 3, ""}}, []int{0, 0, 1}},
		{"what waits for a record that nobody has", []Finding{{1, true, []Tie{missing("u/x"), owner(0, "a/1", false)}}, {2, true, []Tie{missing("u/x")}}, {3, true, []Tie{owner(2, "", true)}}},
			[]Group{{Awaiting, 0, "u/x"}}, []int{0, 0, 0}},
		{"owner and missing of one name are two causes", []Finding{{1, true, []Tie{missing("u/x")}}, {2, true, []Tie{missing("u/x")}}, {3, false, []Tie{owner(0, "u/x", false)}}, {4, false, []Tie{owner(0, "u/x", false)}}},
			[]Group{{Awaiting, 0, "u/x"}, {OfOwner, 0, "u/x"}}, []int{0, 0, 1, 1}},
		{"a record renamed", []Finding{{1, true, nil}, {2, true, []Tie{{Renamed, 1, "", true, true}}}}, []Group{{Record, 1, ""}}, []int{0, 0}},
		{"a circle", []Finding{{1, true, []Tie{needs(3)}}, {2, true, []Tie{needs(1)}}, {3, true, []Tie{needs(2)}}, {4, true, []Tie{needs(3)}}}, []Group{{Record, 1, ""}}, []int{0, 0, 0, 0}},
		{"itself", []Finding{{1, true, []Tie{needs(1), owner(1, "a/1", true)}}}, []Group{{Record, 1, ""}}, []int{0}},
	} {
		b := New()
		for _, f := range c.findings {
			b.Add(f)
		}
		assert.Equal(t, c.groups, b.Groups(), c.name)
		for i, f := range c.findings {
			assert.Equal(t, c.of[i], b.Of(f.ID), "%s: finding %d", c.name, f.ID)
		}
	}
}

func TestALongChainIsOneGroup(t *testing.T) {
	b := New()
	const n = 200_000
	for id := int64(1); id <= n; id++ {
		f := Finding{ID: id, OneSide: true}
		if id < n {
			f.Ties = []Tie{{Kind: Needs, To: id + 1}}
		}
		b.Add(f)
	}
	assert.Equal(t, []Group{{Record, n, ""}}, b.Groups())
	assert.Zero(t, b.Owner(1))
}
