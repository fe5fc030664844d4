// Package renew says that an environment was made anew as a copy of another one.
//
// The contract: what was remembered of the environment before is forgotten, or taken from a parcel of
// the other one of that time; what is open in its dockets is declined with that as note; and what the
// old one had and the new one lacks is found from its last parcel. Nothing is written to an environment.
package renew

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"time"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/library"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/register"
)

// Request says which environment was made anew, from which, and when: a date or a time.
type Request struct {
	Environment, From, On string
	Parcel                string // of From, from that time; "" is none
}

// Result is what became of it.
type Result struct {
	Environment, From string
	At                time.Time
	Parcel            string // from which it is known what both have in common; "" for none
	Agreed            int    // records that are known to be the same
	Declined          []Declined
	Last              string   // the last parcel of the old environment, "" for none
	Lacking           []string // addresses that the old one had and the new one lacks
	Other             int      // records that it has with other values
	Unread            error    // why that could not be found out
}

// Declined says how many findings of a docket are declined now, or why they are not.
type Declined struct {
	Docket, Findings int
	Failed           error
}

// Renew does it.
func Renew(ctx context.Context, s *session.Session, r Request) (Result, error) {
	out := Result{Environment: r.Environment, From: r.From, Parcel: r.Parcel}
	for _, name := range []string{r.Environment, r.From} {
		if _, err := s.Workspace.Environment(name); err != nil {
			return out, err
		}
	}
	p, err := ofThen(ctx, s, r)
	if err != nil {
		return out, err
	}
	if p != nil {
		defer p.Close()
	}
	open, err := openDockets(ctx, s, r.Environment)
	if err != nil {
		return out, err
	}
	if out.At, err = s.Workspace.SetMadeFrom(r.Environment, r.From, r.On, s.Now()); err != nil {
		return out, err
	}
	for _, e := range s.Workspace.Environments {
		if e.Name != r.Environment {
			if err := agreed.Forget(s, r.Environment, e.Name); err != nil {
				return out, err
			}
		}
	}
	if p != nil {
		if out.Agreed, err = learn(ctx, s, r, p, out.At); err != nil {
			return out, err
		}
	}
	note := fmt.Sprintf("%s was made anew from %s, %s", r.Environment, r.From, session.Minute(out.At.UTC().Format(time.RFC3339)))
	for _, number := range open {
		n, err := declined(ctx, s, number, note)
		out.Declined = append(out.Declined, Declined{number, n, err})
	}
	out.Last, out.Lacking, out.Other, out.Unread = lacking(ctx, s, r.Environment)
	return out, ctx.Err()
}

// ofThen opens the parcel of the other environment that tells what both have in common.
func ofThen(ctx context.Context, s *session.Session, r Request) (*parcel.Reader, error) {
	if r.Parcel == "" {
		return nil, nil
	}
	p, err := library.Verified(ctx, s, r.Parcel)
	if err != nil {
		return nil, err
	}
	m := p.Manifest
	ours, err := register.Exported(s.Workspace, register.Export{Seal: m.Seal, Source: m.Source, At: m.ExportedAt})
	if err == nil && (m.Source != r.From || !ours) {
		err = session.Usage("Parcel %s is none that this workspace exported from %s, so it does not tell what both have in common", r.Parcel, r.From)
	}
	if err != nil {
		return nil, errors.Join(err, p.Close())
	}
	return p, nil
}

// learn takes what both have in common from a parcel.
func learn(ctx context.Context, s *session.Session, r Request, p *parcel.Reader, at time.Time) (int, error) {
	c, err := s.Workspace.Catalog()
	if err != nil {
		return 0, err
	}
	// What is known is from the moment when both were one: exports of the old environment say nothing.
	since := at.Add(time.Millisecond).UTC().Format("2006-01-02T15:04:05.000Z07:00")
	between := agreed.Between{Source: r.Environment, Target: r.From, ExportedAt: since,
		Catalog: c, Shapes: p.Manifest.Keys, Fields: map[string][]record.Field{}}
	for _, t := range p.Manifest.Types {
		between.Fields[t.Name] = t.Fields
	}
	n := 0
	return n, agreed.Keep(ctx, s, between, records(ctx, p, &n))
}

func records(ctx context.Context, p *parcel.Reader, n *int) iter.Seq2[agreed.Written, error] {
	return func(yield func(agreed.Written, error) bool) {
		for _, t := range p.Manifest.Types {
			for rec, err := range p.Records(ctx, t.Name) {
				rec.ChangedAt, rec.ChangedBy, rec.Came = "", "", record.Came{}
				*n++
				if !yield(agreed.Written{Type: t.Name, Record: rec, Stands: rec.Key}, err) || err != nil {
					return
				}
			}
		}
	}
}

// openDockets lists the dockets from and to an environment in which something is open.
func openDockets(ctx context.Context, s *session.Session, environment string) ([]int, error) {
	all, err := s.Summaries(ctx)
	if err != nil {
		return nil, err
	}
	var out []int
	for _, d := range all {
		h := d.Header
		if d.Err == nil && h.TargetParcel == "" && (h.Source == environment || h.Target == environment) && d.Tally.Open > 0 {
			out = append(out, h.Number)
		}
	}
	return out, nil
}

// declined declines what is open in a docket.
func declined(ctx context.Context, s *session.Session, number int, note string) (int, error) {
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	d.From(s.Origin)
	result, err := decide.Decide(ctx, s, d, decide.Request{Which: decide.Which{Decisions: []decision.Decision{decision.Undecided}},
		Decision: decision.Declined, Note: note})
	return result.Decided, err
}

// lacking compares the last parcel of the old environment with the new one.
func lacking(ctx context.Context, s *session.Session, environment string) (last string, addresses []string, other int, err error) {
	entries, err := library.List(s)
	if err != nil {
		return "", nil, 0, err
	}
	newest := ""
	for _, e := range entries {
		m := e.Manifest
		exported, bad := time.Parse(time.RFC3339, m.ExportedAt)
		if e.Err == nil && bad == nil && m.Source == environment && m.Origin == "" && m.ExportedAt > newest && exported.Before(s.Now()) {
			last, newest = e.Name, m.ExportedAt
		}
	}
	if last == "" {
		return "", nil, 0, nil
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return last, nil, 0, err
	}
	folder, err := os.MkdirTemp(scratch, "renew-")
	if err != nil {
		return last, nil, 0, err
	}
	defer os.RemoveAll(folder)
	aside := filepath.Join(folder, "renew.docket")
	if _, err := matching.Match(ctx, s, matching.Request{Parcel: last, Against: environment, Aside: aside}); err != nil {
		return last, nil, 0, err
	}
	d, err := docket.Open(ctx, aside)
	if err != nil {
		return last, nil, 0, err
	}
	defer d.Close()
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return last, addresses, other, err
		}
		if f.Status == match.New {
			addresses = append(addresses, f.Address)
		} else if f.Status != match.TargetOnly {
			other++
		}
	}
	slices.Sort(addresses)
	return last, addresses, other, nil
}
