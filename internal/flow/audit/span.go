package audit

import (
	"context"
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/match"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// Reached is one field of a record that reached an environment, or that others changed there.
type Reached struct {
	At          string // of the import's end, or of the match that saw it; RFC 3339
	Environment string
	Docket      int
	Address     string
	Field       string  // "" of a record that has none, or that was removed
	Old, New    *string // nil is null, or that there was no record
	What        string  // came, changed, removed, or by-others
	Approved    []string
	By          string // who imported, or who stands in the record's stamp; "" where that is not known
	TakenBack   int    // the docket that took it back, 0 for none
}

// What became of a record.
const (
	Came     = "came"
	Changed  = "changed"
	Removed  = "removed"
	ByOthers = "by-others"
)

// Occasion says in words by what it came, or how it was seen.
func (r Reached) Occasion() string {
	if r.What == ByOthers {
		return fmt.Sprintf("docket %d saw what others changed in %s", r.Docket, r.Environment)
	}
	return fmt.Sprintf("docket %d, imported into %s by %s", r.Docket, r.Environment, r.By)
}

// Became says in words what became of the record, "" where nothing is to be said of it.
func (r Reached) Became() string {
	var parts []string
	switch {
	case r.What == ByOthers && r.Field == "":
		parts = append(parts, "removed there by others")
	case r.What == ByOthers && r.By != "":
		parts = append(parts, "last changed by "+r.By)
	case r.What != ByOthers:
		parts = append(parts, r.What)
	}
	if len(r.Approved) > 0 {
		parts = append(parts, "approved by "+strings.Join(r.Approved, ", "))
	}
	if r.TakenBack != 0 {
		parts = append(parts, fmt.Sprintf("taken back by docket %d", r.TakenBack))
	}
	return strings.Join(parts, ", ")
}

// Between is a span of time: from Since on, before Until; zero is without end.
type Between struct{ Since, Until time.Time }

func (b Between) holds(at string) bool {
	t, err := time.Parse(time.RFC3339, at)
	return err == nil && !t.Before(b.Since) && (b.Until.IsZero() || t.Before(b.Until))
}

// Span gives everything that reached an environment in a span of time, by the dockets of the workspace
// in their order, and what their matches saw changed there by others.
func Span(ctx context.Context, s *session.Session, span Between, give func(Reached) error) error {
	pasts, err := s.Pasts(ctx)
	if err != nil {
		return err
	}
	back, err := takenBack(ctx, s, pasts)
	if err != nil {
		return err
	}
	seen := map[[3]string]string{} // environment, address and field: the value that others gave it
	for _, p := range pasts {
		if p.Err != nil {
			return p.Err
		}
		if p.Header.TargetParcel != "" {
			continue
		}
		if err := spanOf(ctx, s, p, span, back, seen, give); err != nil {
			return err
		}
	}
	return nil
}

func spanOf(ctx context.Context, s *session.Session, p register.Past, span Between, back map[int]map[int64]int,
	seen map[[3]string]string, give func(Reached) error) error {
	d, err := register.Open(ctx, s.Workspace, p.Header.Number)
	if err != nil {
		return err
	}
	defer d.Close()
	written, err := writtenIn(ctx, d, span)
	if err != nil {
		return err
	}
	matched := span.holds(p.Header.MatchedAt)
	if len(written) == 0 && !matched {
		return nil
	}
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return err
		}
		if matched {
			if err := others(d.Header, f, seen, give); err != nil {
				return err
			}
		}
		one, ok := written[f.ID]
		if !ok {
			continue
		}
		if err := reached(d.Header, f, one, back[d.Header.Number][f.ID], give); err != nil {
			return err
		}
	}
	return nil
}

// writtenIn gives the findings that imports wrote in a span of time, each with the last of them.
func writtenIn(ctx context.Context, d *docket.Docket, span Between) (map[int64]run.Run, error) {
	runs, err := run.List(ctx, d)
	if err != nil {
		return nil, err
	}
	out := map[int64]run.Run{}
	for _, one := range runs {
		if one.Kind == run.ConfirmRun && one.Done() && span.holds(one.EndedAt) { // somebody loaded its load files
			for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
				if err != nil {
					return nil, err
				}
				if f.IsApproved() {
					out[f.ID] = one
				}
			}
		}
		if one.Kind != run.ImportRun || !span.holds(one.EndedAt) {
			continue
		}
		list, err := run.Outcomes(ctx, d, one.Seq, run.WasWritten)
		if err != nil {
			return nil, err
		}
		for _, o := range list {
			out[o.Finding] = one
		}
	}
	return out, nil
}

// takenBack tells of each docket which of its findings a later import took back, and by which docket.
func takenBack(ctx context.Context, s *session.Session, pasts []register.Past) (map[int]map[int64]int, error) {
	out := map[int]map[int64]int{}
	for _, p := range pasts {
		if p.Err != nil || p.Header.Restores == 0 {
			continue
		}
		d, err := register.Open(ctx, s.Workspace, p.Header.Number)
		if err != nil {
			return nil, err
		}
		written, err := writtenIn(ctx, d, Between{})
		var ids []int64
		for id := range written {
			ids = append(ids, id)
		}
		var backs map[int64]docket.Back
		if err == nil {
			backs, err = d.Found.Backs(ctx, ids)
		}
		if closed := d.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return nil, err
		}
		of := p.Header.Restores
		for _, b := range backs {
			if out[of] == nil {
				out[of] = map[int64]int{}
			}
			out[of][b.Finding] = p.Header.Number
		}
	}
	return out, nil
}

// reached gives what an import wrote of a record, field by field.
func reached(h docket.Header, f docket.Finding, by run.Run, back int, give func(Reached) error) error {
	one := Reached{At: by.EndedAt, Environment: h.Target, Docket: h.Number, Address: f.Address, What: Changed, By: by.Who,
		Approved: f.Approvers, TakenBack: back}
	if len(one.Approved) == 0 && f.DecidedBy != "" {
		one.Approved = []string{f.DecidedBy}
	}
	switch {
	case f.Removes():
		one.What = Removed
		return give(one)
	case f.Adds():
		one.What = Came
	}
	approved := map[string]bool{}
	for _, name := range f.ApprovedFields() {
		approved[name] = true
	}
	given := false
	for _, field := range f.Fields {
		if one.What == Changed && !approved[field.Field] {
			continue
		}
		one.Field, one.Old, one.New, given = field.Field, field.Target, field.Source, true
		if err := give(one); err != nil {
			return err
		}
	}
	if !given {
		return give(one)
	}
	return nil
}

// others gives what a match saw changed in the target by others since both sides agreed: each value
// once, however many matches saw it.
func others(h docket.Header, f docket.Finding, seen map[[3]string]string, give func(Reached) error) error {
	if h.Restores != 0 {
		return nil
	}
	by, at := "", h.MatchedAt
	for _, c := range h.Changes(f) {
		if c.Environment == h.Target {
			if by = c.By; c.Own != nil {
				by = ""
			}
		}
	}
	one := Reached{At: at, Environment: h.Target, Docket: h.Number, Address: f.Address, What: ByOthers, By: by}
	tell := func(field string, old, now *string) error {
		key := [3]string{h.Target, f.Address, field}
		value := "-"
		if now != nil {
			value = "=" + *now
		}
		if seen[key] == value {
			return nil
		}
		seen[key] = value
		one.Field, one.Old, one.New = field, old, now
		return give(one)
	}
	for _, reason := range f.Reasons {
		if reason == match.RemovedInTarget {
			one.By = ""
			return tell("", nil, nil)
		}
	}
	for _, field := range f.Fields {
		moved := field.AgreedKnown && (match.Moved(field.Moved) == match.MovedTarget || match.Moved(field.Moved) == match.MovedBoth)
		if moved {
			if err := tell(field.Field, field.Agreed, field.Target); err != nil {
				return err
			}
		}
	}
	return nil
}
