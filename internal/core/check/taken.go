package check

import (
	"fmt"
	"slices"
	"strings"
)

// Sets of values that no two records of a type may both have.

// AllCombined is of how many fields all combinations are looked at.
const AllCombined = 4

// Combinations gives the sets of fields that may come to be written of those in which a
// finding differs, the full one first: a person may approve some of them only. With more
// than AllCombined differing fields only the full one and those of one field are given.
func Combinations(fields []string) [][]string {
	out := [][]string{}
	if len(fields) > AllCombined {
		out = append(out, slices.Clone(fields))
		for _, field := range fields {
			out = append(out, []string{field})
		}
		return out
	}
	for chosen := 1<<len(fields) - 1; chosen > 0; chosen-- {
		var some []string
		for i, field := range fields {
			if chosen&(1<<i) != 0 {
				some = append(some, field)
			}
		}
		out = append(out, some)
	}
	return out
}

// Claim is what a finding that is written does to a set of values that is unique.
type Claim struct {
	Finding int64
	Address string
	Set     string // names the type and the fields of the set
	Fields  []string
	Values  string // those it would hold, as bytes that compare; "" gives up what it has
	Holder  int64  // finding of the record that holds them in the target, 0 for none
	HeldBy  string // address of that record, "" where nobody holds them
	HeldAs  string // how the target names that record, where it is another name; else ""
	Since   Side   // when and by whom that record was last changed
	Must    bool   // the finding is new and cannot do without these fields
}

// Clash is a claim that cannot be met.
type Clash struct {
	Claim
	Other string // who holds the values, or would as well
	Both  bool   // Other is written, too, and would get the same values
	Trade bool   // Other gives them up, but only for what this one has now
	Waits bool   // Other would give them up, but is not going to be written
}

// Clashes tells which claims of findings that are going to be written cannot be met, in
// their order. offered are the claims of all findings, whether they are written or not.
func Clashes(written []Claim, offered func(finding int64, set string) bool) []Clash {
	type at struct {
		finding int64
		set     string
	}
	type values struct{ set, values string }
	gives := map[at]*Claim{}
	wanted := map[values][]*Claim{}
	for i := range written {
		c := &written[i]
		gives[at{c.Finding, c.Set}] = c
		if c.Values != "" {
			wanted[values{c.Set, c.Values}] = append(wanted[values{c.Set, c.Values}], c)
		}
	}
	var out []Clash
	for i := range written {
		c := written[i]
		if c.Values == "" {
			continue
		}
		for _, other := range wanted[values{c.Set, c.Values}] {
			if other.Finding != c.Finding {
				out = append(out, Clash{Claim: c, Other: other.Address, Both: true})
				break
			}
		}
		if c.HeldBy == "" {
			continue
		}
		if gives[at{c.Holder, c.Set}] == nil {
			out = append(out, Clash{Claim: c, Other: c.HeldBy, Waits: c.Holder != 0 && offered(c.Holder, c.Set)})
			continue
		}
		// Who holds what the holder wants, and so on: back here is a trade. A chain is as
		// long as records want each other's values, and each is in one chain only.
		seen := map[int64]bool{}
		for next := gives[at{c.Holder, c.Set}]; next != nil && next.HeldBy != "" &&
			!seen[next.Finding]; next = gives[at{next.Holder, c.Set}] {
			if seen[next.Finding] = true; next.Holder == c.Finding {
				out = append(out, Clash{Claim: c, Other: c.HeldBy, Trade: true})
				break
			}
		}
	}
	return out
}

// Taken says that a set of values would be held twice.
func Taken(c Clash, target string, docket int) Check {
	fields := strings.Join(c.Fields, ", ")
	what, correct, without := "field "+fields, "it", do(DeclineField, fields)
	if len(c.Fields) > 1 {
		what, correct, without = "fields "+fields, "them", do(Decline, "one of these fields")
	}
	if c.Must {
		without = do(Decline, c.Address)
	}
	since := ""
	if c.Since.At != "" {
		since = ", last changed" + strings.TrimPrefix(c.Since.changed(), "in "+c.Since.Environment)
	}
	there := c.Other
	if c.HeldAs != "" && !c.Both {
		there = c.HeldAs
		since = fmt.Sprintf(" (%s there)", c.HeldAs) + since
	}
	holds := fmt.Sprintf("%s: the value of %s is held by %s in %s%s, and no two records may have the same", c.Address, what, c.Other,
		target, since)
	if len(c.Fields) > 1 {
		holds = fmt.Sprintf("%s: the values of %s together are held by %s in %s%s, and no two records may have the same", c.Address,
			what, c.Other, target, since)
	}
	switch {
	case c.Both:
		return blocker(ValueTaken, fmt.Sprintf("%s and %s would both have the same in %s, and no two records may.", c.Address,
			c.Other, what), do(Decline, "one of them"), do(CorrectInSource, "one"))
	case c.Trade:
		way := do(FreeThere, there, target)
		if c.HeldAs != "" { // they exchange keys, which only works where both can be named
			way = do(ExchangeKeys, target)
		}
		return blocker(ValueTaken, holds+"; it is to get other values in this docket, but only once those of "+c.Address+" are free.", way)
	case c.Waits:
		return blocker(ValueTaken, holds+fmt.Sprintf("; it would give them up in docket %d but is not approved.", docket),
			do(ApproveToo, c.Other), do(Decline, c.Address))
	default:
		return blocker(ValueTaken, holds+".", do(CorrectInSource, correct), do(ChangeThere, there, target), without)
	}
}
