package decide

import (
	"context"
	"errors"
	"slices"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/workspace"
)

// PairResult says what was remembered.
type PairResult struct {
	workspace.Pair
	Known bool // it was remembered before
	// Docket is the newest docket, 0 where there is none, and In what it has of the two.
	Docket int
	Source string // which of the two only its source has, "" for neither
	Target string // which of the two only its target has
}

// Pair remembers that two keys of a type are one record.
func Pair(ctx context.Context, s *session.Session, old, other, note string) (PairResult, error) {
	result := PairResult{Pair: workspace.Pair{Old: old, New: other, By: s.Who, At: run.Stamp(s.Now()), Note: note}}
	c, err := s.Workspace.Catalog()
	if err != nil {
		return result, err
	}
	for _, address := range []string{old, other} {
		p, err := record.ParsePattern(address)
		if err != nil {
			return result, session.Usage("%v", err)
		}
		if _, known := c.Type(p.Type()); !known {
			return result, session.UnknownType(c, p.Type())
		}
		if !p.Exact() {
			return result, session.Usage("%s is a pattern; a pair is two records, each named in full", address)
		}
	}
	oldType, _, _ := strings.Cut(old, "/")
	newType, _, _ := strings.Cut(other, "/")
	switch {
	case oldType != newType:
		return result, session.Usage("%s and %s are of different record types and cannot be one record", old, other)
	case old == other:
		return result, session.Usage("%s is named twice; a pair is two keys of one record", old)
	}
	d, err := s.OpenDocket(ctx, "")
	var none *session.UsageError
	if err == nil {
		defer d.Close()
		if err := result.seen(ctx, d); err != nil {
			return result, err
		}
		if err := result.known(ctx, s, d); err != nil {
			return result, err
		}
	} else if !errors.As(err, &none) {
		return result, err
	}
	added, err := s.Workspace.AddPair(result.Pair)
	result.Known = !added
	return result, err
}

// seen looks in a docket for the two.
func (r *PairResult) seen(ctx context.Context, d *docket.Docket) error {
	var patterns []record.Pattern
	for _, address := range []string{r.Old, r.New} {
		p, err := record.ParsePattern(address)
		if err != nil {
			return err
		}
		patterns = append(patterns, p)
	}
	r.Docket = d.Header.Number
	for f, err := range d.Found.Findings(ctx, docket.Filter{Patterns: patterns}) {
		if err != nil {
			return err
		}
		switch {
		case f.Adds():
			r.Source = f.Address
		case f.Status == match.TargetOnly:
			r.Target = f.Address
		}
	}
	return nil
}

// known refuses a pair of which neither record is known: nothing was found of them, nor has the
// parcel that was matched any.
func (r *PairResult) known(ctx context.Context, s *session.Session, d *docket.Docket) error {
	if r.Source != "" || r.Target != "" {
		return nil
	}
	typ, _, _ := strings.Cut(r.Old, "/")
	compared := slices.ContainsFunc(d.Types, func(t docket.Type) bool { return t.Name == typ })
	if !compared {
		return nil
	}
	for _, address := range []string{r.Old, r.New} {
		_, key, err := d.Catalog.ParseAddress(d.Header.Keys, address)
		if err != nil {
			return session.Usage("Nothing is paired: %v", err)
		}
		if isSame(ctx, s, d, typ, key) {
			return nil
		}
		for f, err := range d.Found.Findings(ctx, docket.Filter{Types: []string{typ}}) {
			if err != nil {
				return err
			}
			if f.Address == address || f.Was == address {
				return nil
			}
		}
	}
	p, err := record.ParsePattern(r.Old)
	if err != nil {
		return err
	}
	return session.Usage("Nothing is paired: docket %d knows neither %s nor %s%s", d.Header.Number, r.Old, r.New, Absent(ctx, s, d, p))
}

// Unpair forgets a pair.
func Unpair(s *session.Session, old, other string) error {
	removed, err := s.Workspace.RemovePair(old, other)
	if err == nil && !removed {
		err = session.Usage("%s and %s are not remembered as one record; anagram pair --list shows those that are", old, other)
	}
	return err
}
