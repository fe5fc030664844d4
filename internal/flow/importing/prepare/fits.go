package prepare

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/environment"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/session"
)

// Fits refuses a target in which the catalog of the docket no longer holds, and gives what
// is ready with the target's places.
func Fits(ctx context.Context, s *session.Session, r Ready, env environment.Environment) (Ready, error) {
	about, err := env.Describe(ctx)
	if err != nil {
		return r, err
	}
	var types []string
	for _, a := range r.Standing.Approved {
		if !slices.Contains(types, a.Type) {
			types = append(types, a.Type)
		}
	}
	name, c := r.Model.Environment, r.Model.Catalog
	for _, typ := range types {
		t, _ := c.Type(typ)
		place := about.Places[t.Place(name)]
		if place.ReadOnly {
			return r, session.Usage("%s of %s is a view, which is only read. Decline the findings of %s, or keep it elsewhere",
				place.Name, name, typ)
		}
	}
	if err := stillThere(r, about.Places, types); err != nil {
		return r, err
	}
	address := r.Docket.Header.TargetAddress
	if now := s.AddressOf(name, about.Address); now != address {
		return r, &session.BlockedError{Docket: r.Docket.Header.Number,
			Checks: []check.Check{check.Elsewhere(name, now, address, r.Docket.Header.Number, r.Docket.Header.AgainInside())}}
	}
	target := session.Described{Environment: env, About: about, Fit: c.Fits(name, about.Places, about.Unreadable)}
	if problems := target.Problems(c, types); len(problems) > 0 {
		return r, &session.CatalogError{Catalog: "the catalog in docket " + fmt.Sprint(r.Docket.Header.Number), Environment: name,
			Problems: problems}
	}
	r.Fit, r.Numbers = target.Fit, about.Numbers
	if r.ids, r.signs, err = fit.Signatures(ctx, env, about.Places, r.Model, r.Who); err != nil {
		return r, err
	}
	return r.In(about.Places), nil
}

// Guarded asks again whether source and target fit, as they are now and as the workspace
// says now.
func Guarded(ctx context.Context, s *session.Session, r Ready, target environment.Reader) error {
	h := r.Docket.Header
	if h.Restores != 0 {
		return nil // what it brings comes from the target itself
	}
	e, err := s.Workspace.Environment(h.Target)
	if err != nil {
		return err
	}
	there, err := fit.SideOf(ctx, s, fit.Seen{Reader: target, Fit: r.Fit}, r.Model.Catalog, h.Target)
	if err != nil {
		return err
	}
	var blockers []check.Check
	for _, c := range fit.Checks(s, fit.Side{Name: h.Source, Release: h.Release, Settings: h.Settings}, there, e.Guard.Release) {
		if c.Level == check.Blocker {
			blockers = append(blockers, c)
		}
	}
	if len(blockers) > 0 {
		return &session.BlockedError{Docket: h.Number, Checks: blockers}
	}
	return nil
}

// stillThere refuses a docket with a field that the target does not have any more: all of a record is
// read again, whatever of it is written.
func stillThere(r Ready, places map[string]catalog.Place, types []string) error {
	for _, name := range types {
		t, _ := r.Model.Catalog.Type(name)
		of, _ := r.Docket.Type(name)
		place, there := places[t.Place(r.Model.Environment)]
		if !there {
			continue
		}
		for _, field := range of.Fields {
			for _, column := range t.Stored(field.Name) {
				if _, ok := place.Column(column); !ok {
					return session.Usage("Docket %d has field %s of %s, and %s has no column %s in %s any more; nothing was written. %s", r.Docket.Header.Number,
						field.Name, name, r.Model.Environment, column, place.Name, r.Docket.Header.Again())
				}
			}
		}
	}
	return nil
}

// Signature is how who imports stands in the stamps of a type.
func Signature(r Ready, typ string) string {
	t, ok := r.Model.Catalog.Type(typ)
	if !ok {
		return r.Who
	}
	return t.Signature(r.Who, r.ids)
}
