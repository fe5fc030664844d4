package matching

import (
	"context"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
)

// sink takes what a match finds: into the docket that is being made, and counted. It keeps its
// first error, as a writer with a buffer does, and does nothing more after it; who writes into it
// asks for err where a stretch of work ends.
type sink struct {
	ctx       context.Context //nolint:containedctx // a sink lives within one call, and belongs to it
	builder   *build.Builder
	err       error
	again     string // what makes a docket that takes an import back anew, "" for any other
	types     []docket.Type
	left      []string      // types and fields that were not compared
	whole     []check.Check // on the whole docket
	blockers  int
	cautions  int
	ambiguous map[string]map[string]bool // type -> key order
}

func newSink(ctx context.Context, c compared) (*sink, error) {
	b, err := build.Create(ctx, c.scratch)
	again := ""
	if c.back != nil {
		again = docket.Header{Restores: c.back.Docket}.AgainInside()
	}
	return &sink{ctx: ctx, builder: b, again: again, ambiguous: map[string]map[string]bool{}}, err
}

// does runs one step of writing, unless an earlier one failed.
func (out *sink) does(step func() error) {
	if out.err == nil {
		out.err = step()
	}
}

// asked is what a step that looks something up in the docket gives; nothing after an error.
func asked[T any](out *sink, step func() (T, error)) (answer T) {
	out.does(func() (err error) {
		answer, err = step()
		return err
	})
	return answer
}

// finding keeps a finding and gives its id in the docket.
func (out *sink) finding(f docket.Finding) int64 {
	return asked(out, func() (int64, error) { return out.builder.Finding(out.ctx, f) })
}

// addressOf gives the address of a finding.
func (out *sink) addressOf(finding int64) string {
	return asked(out, func() (string, error) { return out.builder.AddressOf(out.ctx, finding) })
}

// typeDone ends a record type, after its findings.
func (out *sink) typeDone(t docket.Type) {
	out.types = append(out.types, t)
	out.does(func() error { return out.builder.Type(out.ctx, t) })
}

// becomesConflict makes a conflict of a finding for a reason that showed later, and moves it
// from the count of its status to that of conflicts.
func (out *sink) becomesConflict(finding int64, typ string, reason match.Reason) {
	was := asked(out, func() (match.Status, error) { return out.builder.Because(out.ctx, finding, reason) })
	if was == match.Conflict {
		return
	}
	for i, t := range out.types {
		if t.Name == typ {
			out.types[i].Counts[was]--
			out.types[i].Counts[match.Conflict]++
			out.does(func() error { return out.builder.Counts(out.ctx, out.types[i]) })
		}
	}
}

// onDocket keeps a check on the whole docket.
func (out *sink) onDocket(c check.Check) {
	out.whole = append(out.whole, out.said(c))
	out.check(0, c)
}

// notCompared says that a type or a field is on one side only.
func (out *sink) notCompared(what string, c check.Check) {
	out.left = append(out.left, what)
	out.onDocket(c)
}

// said gives a check as it is said in such a docket.
func (out *sink) said(c check.Check) check.Check {
	if out.again == "" || c.Mend == "" {
		return c
	}
	return check.TakingBack(c, out.again)
}

// check keeps a check on a finding.
func (out *sink) check(finding int64, c check.Check) { out.checks(finding, check.On{Check: c}) }

// checks keeps checks on a finding that may depend on what is going to be written.
func (out *sink) checks(finding int64, list ...check.On) {
	for _, c := range list {
		c.Check = out.said(c.Check)
		switch {
		case c.Partial:
		case c.Level == check.Blocker:
			out.blockers++
		default:
			out.cautions++
		}
		out.does(func() error { return out.builder.Check(out.ctx, finding, c) })
	}
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
