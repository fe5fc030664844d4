package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/parcel"
)

// SameKeys refuses a parcel whose keys or references mean something else than the
// workspace's catalog says now: records would be matched by the wrong fields.
func SameKeys(p *parcel.Reader, c *catalog.Catalog, name string) error {
	for _, pt := range p.Manifest.Types {
		was, ok := p.Catalog.Type(pt.Name)
		now, here := c.Type(pt.Name)
		switch {
		case !ok:
			return &parcel.Error{Parcel: p.Path(), File: "parcel.json", Message: fmt.Sprintf("it holds records of %q, which its own catalog does not describe", pt.Name)}
		case !here:
			return session.Usage("The parcel holds records of %s, which %s does not describe%s Describe it, or export without it", pt.Name, name, sentence(c, pt.Name))
		case !slices.Equal(was.Key, now.Key):
			return session.Usage("%s says the key of %s is %v; when the parcel was exported it was %v. Export again, then match", name, pt.Name, now.Key, was.Key)
		}
		for field, ref := range was.Refers {
			if !slices.Equal(now.Refers[field].To, ref.To) || (now.Refers[field].Inside == nil) != (ref.Inside == nil) {
				return session.Usage("%s says field %s of %s refers to %q; when the parcel was exported it was %q. Export again, then match", name, field, pt.Name,
					strings.Join(now.Refers[field].To, ", "), strings.Join(ref.To, ", "))
			}
		}
	}
	return nil
}

func sentence(c *catalog.Catalog, word string) string {
	if near := strings.TrimPrefix(session.UnknownType(c, word).Error(), fmt.Sprintf("The catalog has no record type %q", word)); near != "" {
		return near
	}
	return "."
}

// target is what a parcel is matched with: an environment or another parcel.
type Target struct {
	session.Described
	Name   string
	Parcel *parcel.Reader
}

// against opens the target of a match.
func OpenTarget(ctx context.Context, s *session.Session, name string, c *catalog.Catalog) (Target, error) {
	if _, err := s.Workspace.Environment(name); err != nil {
		if _, pathErr := library.ParcelPath(s, name); pathErr != nil {
			return Target{}, err
		}
		p, err := library.Verified(ctx, s, name)
		if err != nil {
			return Target{}, err
		}
		if err := SameKeys(p, c, s.Workspace.CatalogName()); err != nil {
			_ = p.Close()
			return Target{}, err
		}
		called := fmt.Sprintf("%s (parcel %s)", p.Manifest.Source, library.LibraryName(s, p))
		return Target{Described: sides.DescribeParcel(p, called, c), Name: called, Parcel: p}, nil
	}
	env, err := s.OpenDescribed(ctx, name, c)
	return Target{Described: env, Name: name}, err
}

// CanMatch refuses a target that is neither an environment nor a parcel, before
// anything is exported to be matched with it.
func CanMatch(s *session.Session, name string) error {
	_, err := s.Workspace.Environment(name)
	if err != nil {
		if _, pathErr := library.ParcelPath(s, name); pathErr == nil {
			return nil
		}
	}
	return err
}
