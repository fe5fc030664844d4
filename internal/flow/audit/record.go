package audit

import (
	"context"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// Chapter is what became of a record in one docket.
type Chapter struct {
	Docket         int
	MatchedAt      string
	Source         string
	Target         string
	Restores       int
	Status         match.Status // same where it was compared and did not differ
	Decision       string
	DecidedBy      []string
	DecidedAt      string
	Note           string
	Outcome        string // written, already or left-out; "" of none
	At             string // when it was imported
	By             string // who imported it
	Why            string // of one left out
	Fields         []docket.Field
	Compared       bool
	removed, added bool
}

// Removed reports whether the import of the docket took the record away, Added whether it made it.
func (c Chapter) Removed() bool { return c.Outcome == run.WasWritten && c.removed }

// Added reports whether the import of the docket made the record.
func (c Chapter) Added() bool { return c.Outcome == run.WasWritten && c.added }

// Life gives what became of one record in all dockets of the workspace, oldest first. Address
// is by any name that a side had for it.
func Life(ctx context.Context, s *session.Session, address string) ([]Chapter, error) {
	pattern, err := record.ParsePattern(address)
	if err != nil {
		return nil, session.Usage("%v", err)
	}
	if !pattern.Exact() {
		return nil, session.Usage("history takes one record's address, such as assay/GLU, or a docket's number; %q is a pattern", address)
	}
	entries, err := s.Pasts(ctx)
	if err != nil {
		return nil, err
	}
	var out []Chapter
	for _, e := range entries {
		if e.Err != nil {
			continue
		}
		chapter, ok, err := chapterOf(ctx, s, e, pattern)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, chapter)
		}
	}
	return out, nil
}

func chapterOf(ctx context.Context, s *session.Session, e register.Past, pattern record.Pattern) (Chapter, bool, error) {
	d, err := register.Open(ctx, s.Workspace, e.Header.Number)
	if err != nil {
		return Chapter{}, false, err
	}
	defer d.Close()
	h := d.Header
	out := Chapter{Docket: h.Number, MatchedAt: h.MatchedAt, Source: h.Source, Target: h.Target, Restores: h.Restores,
		Fields: []docket.Field{}, DecidedBy: []string{}}
	ids, err := d.Found.Named(ctx, pattern.String())
	if err != nil {
		return out, false, err
	}
	if len(ids) == 0 {
		// Where all of its type was compared, it was the same, or on neither side.
		since, whole := h.Brings[pattern.Type()]
		out.Status, out.Compared = match.Same, true
		return out, whole && since == "" && h.TargetParcel == "", nil
	}
	for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: ids}) {
		if err != nil {
			return out, false, err
		}
		out.Status, out.Decision, out.DecidedAt, out.Note = f.Status, string(f.Stand()), f.DecidedAt, f.Note
		out.removed, out.added = f.Removes(), f.Adds()
		out.Fields = append(out.Fields, f.Fields...)
		if f.DecidedBy != "" {
			out.DecidedBy = append(out.DecidedBy, f.DecidedBy)
		}
		for _, who := range f.Approvers {
			if who != f.DecidedBy {
				out.DecidedBy = append(out.DecidedBy, who)
			}
		}
		if err := out.outcome(ctx, d, f); err != nil {
			return out, false, err
		}
		break
	}
	return out, true, nil
}

// outcome says what the last import that came to the record made of it.
func (c *Chapter) outcome(ctx context.Context, d *docket.Docket, f docket.Finding) error {
	runs, err := run.List(ctx, d)
	if err != nil {
		return err
	}
	for _, one := range runs {
		switch {
		case one.Kind == run.ConfirmRun && one.Done() && f.IsApproved():
			c.Outcome, c.At, c.By = run.WasWritten, one.EndedAt, one.Who
			continue
		case one.Kind != run.ImportRun:
			continue
		}
		for _, outcome := range []string{run.WasWritten, run.WasAlready, run.WasLeftOut} {
			list, err := run.Outcomes(ctx, d, one.Seq, outcome)
			if err != nil {
				return err
			}
			for _, o := range list {
				if o.Finding == f.ID && (c.Outcome != run.WasWritten || outcome == run.WasWritten) {
					c.Outcome, c.At, c.By, c.Why = outcome, one.EndedAt, one.Who, o.Why
				}
			}
		}
	}
	return nil
}
