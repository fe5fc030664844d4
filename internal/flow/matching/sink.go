package matching

import (
	"context"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
)

// sink takes what a match finds: into the docket that is being made, and counted.
type sink struct {
	outside   []heldOutside
	created   []created // made by the import that is taken back
	builder   *docket.Builder
	again     string // what makes a docket that takes an import back anew, "" for any other
	types     []docket.Type
	left      []string      // types and fields that were not compared
	whole     []check.Check // on the whole docket
	blockers  int
	cautions  int
	ambiguous map[string]map[string]bool // type -> key order
}

func newSink(ctx context.Context, c compared) (*sink, error) {
	b, err := docket.Create(ctx, c.scratch)
	again := ""
	if c.back != nil {
		again = docket.Header{Restores: c.back.Docket}.AgainInside()
	}
	return &sink{builder: b, again: again, ambiguous: map[string]map[string]bool{}}, err
}

// typeDone ends a record type, after its findings.
func (out *sink) typeDone(ctx context.Context, t docket.Type) error {
	out.types = append(out.types, t)
	return out.builder.Type(ctx, t)
}

// becomesConflict moves one finding of a type from the count of one status to that of
// conflicts.
func (out *sink) becomesConflict(ctx context.Context, typ string, was match.Status) error {
	if was == match.Conflict {
		return nil
	}
	for i, t := range out.types {
		if t.Name == typ {
			out.types[i].Counts[was]--
			out.types[i].Counts[match.Conflict]++
			return out.builder.Counts(ctx, out.types[i])
		}
	}
	return nil
}

// onDocket keeps a check on the whole docket.
func (out *sink) onDocket(ctx context.Context, c check.Check) error {
	out.whole = append(out.whole, out.said(c))
	return out.check(ctx, 0, c)
}

// notCompared says that a type or a field is on one side only.
func (out *sink) notCompared(ctx context.Context, what string, c check.Check) error {
	out.left = append(out.left, what)
	return out.onDocket(ctx, c)
}

// said gives a check as it is said in such a docket.
func (out *sink) said(c check.Check) check.Check {
	if out.again == "" || c.Mend == "" {
		return c
	}
	return check.TakingBack(c, out.again)
}

// check keeps a check on a finding.
func (out *sink) check(ctx context.Context, finding int64, c check.Check) error {
	return out.checkWhen(ctx, finding, docket.Check{Check: c})
}

// checkWhen keeps a check that depends on what is going to be written.
func (out *sink) checkWhen(ctx context.Context, finding int64, c docket.Check) error {
	c.Check = out.said(c.Check)
	switch {
	case c.Partial:
	case c.Level == check.Blocker:
		out.blockers++
	default:
		out.cautions++
	}
	return out.builder.Check(ctx, finding, c)
}

// isAmbiguous remembers that a key occurs more than once.
func (out *sink) isAmbiguous(typ string, key record.Key) {
	if out.ambiguous[typ] == nil {
		out.ambiguous[typ] = map[string]bool{}
	}
	out.ambiguous[typ][key.Order()] = true
}

// ambiguousWithin reports whether a key has an ambiguous record in it.
func (out *sink) ambiguousWithin(key record.Key) bool {
	if len(out.ambiguous) == 0 {
		return false
	}
	for _, part := range key.Parts() {
		if part.Kind() != record.Reference {
			continue
		}
		if out.ambiguous[part.Refers()][part.Key().Order()] || out.ambiguousWithin(part.Key()) {
			return true
		}
	}
	return false
}
