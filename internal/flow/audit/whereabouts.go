package audit

import (
	"context"

	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/verify"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/register"
)

// Stay is what is known of a parcel in one environment.
type Stay struct {
	Environment string
	Docket      int    // the newest with the parcel, 0 where it was never matched there
	MatchedAt   string // of that docket
	State       string // source, not-matched, matched, imported, in-part, taken-back, refused
	ImportedAt  string
	By          string
	New         int
	Changed     int
	LeftOut     int // approved, and left out of the last import
	Open        int
	Declined    int
	Held        int
	// Of what was imported, how many records are there as approved; -1 where nobody asked.
	AsApproved int
	Asked      int
	Failure    string // why the environment could not be asked
}

// States of a parcel in an environment.
const (
	Source     = "source"      // it was exported from there
	NotMatched = "not-matched" // nobody looked
	Matched    = "matched"     // nothing was imported
	Imported   = "imported"    // all that was approved
	InPart     = "in-part"     // some approved records were left out, or are not imported yet
	TakenBack  = "taken-back"  // a restore was imported
	Refused    = "refused"     // the environment takes no imports
)

// Whereabouts gives the stays of a parcel, in the order of the environments in anagram.yaml.
func Whereabouts(ctx context.Context, s *session.Session, name string, ask bool) ([]Stay, error) {
	p, err := library.Open(s, name)
	if err != nil {
		return nil, err
	}
	seal, source := p.Manifest.Seal, p.Manifest.Source
	called := library.NameOf(p)
	_ = p.Close()
	entries, err := s.Summaries(ctx)
	if err != nil {
		return nil, err
	}
	back := session.TakenBack(register.PastsOf(entries))
	var out []Stay
	for _, e := range s.Workspace.Environments {
		stay := Stay{Environment: e.Name, State: NotMatched, AsApproved: -1}
		switch {
		case e.Name == source:
			stay.State = Source
		case e.NoImports:
			stay.State = Refused
		}
		for _, entry := range entries {
			if entry.Err == nil && entry.Header.Target == e.Name && entry.Header.TargetParcel == "" && entry.Header.Parcel == called {
				if err := stay.take(ctx, s, entry, seal, back[entry.Header.Number]); err != nil {
					return nil, err
				}
			}
		}
		if ask && stay.Docket != 0 && stay.ImportedAt != "" {
			if err := stay.ask(ctx, s); err != nil {
				if ctx.Err() != nil {
					return nil, ctx.Err()
				}
				stay.Failure = err.Error()
			}
		}
		out = append(out, stay)
	}
	return out, nil
}

// take adds what a docket tells. One made with another parcel of the same name does not count.
func (y *Stay) take(ctx context.Context, s *session.Session, e register.Entry, seal string, back bool) error {
	d, err := register.Open(ctx, s.Workspace, e.Header.Number)
	if err != nil {
		return err
	}
	defer d.Close()
	if d.Header.ParcelSeal != seal {
		return nil
	}
	y.Docket, y.MatchedAt = e.Header.Number, e.Header.MatchedAt
	y.Open, y.Declined, y.Held = e.Tally.Open, e.Tally.Declined, e.Tally.Held
	if y.State == NotMatched {
		y.State = Matched
	}
	for _, run := range e.Runs {
		if run.Done() {
			y.ImportedAt, y.By, y.LeftOut = run.EndedAt, run.Who, run.LeftOut
			y.New, y.Changed = y.New+run.New, y.Changed+run.Changed
			y.State = Imported
			if run.LeftOut > 0 || e.Tally.Approved > run.New+run.Changed+run.LeftOut {
				y.State = InPart
			}
		}
	}
	if y.ImportedAt != "" && back {
		y.State = TakenBack
	}
	return nil
}

// ask reads the environment for what was imported.
func (y *Stay) ask(ctx context.Context, s *session.Session) error {
	d, err := register.Open(ctx, s.Workspace, y.Docket)
	if err != nil {
		return err
	}
	defer d.Close()
	r, rest, err := prepare.Read(ctx, d, standing.Demand{})
	if err != nil {
		return err
	}
	env, err := s.Open(ctx, y.Environment, true)
	if err != nil {
		return err
	}
	defer env.Close()
	y.AsApproved = 0
	return verify.EachNow(ctx, r, sides.Renamed(env, r.Names), rest, func(_ *standing.Approval, asApproved bool) {
		y.Asked++
		if asApproved {
			y.AsApproved++
		}
	})
}
