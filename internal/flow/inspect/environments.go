package inspect

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
)

// EnvironmentReport is what a test of an environment found.
type EnvironmentReport struct {
	Name  string
	About environment.Description
	Err   error
	// Places that the account may not wholly read, not add to and not change: those of the
	// catalog's record types, or all of them while there is no catalog.
	NoRead, NoInsert, NoUpdate []string
}

// rights lists what the account may not do with the places that matter.
func (r *EnvironmentReport) rights(c *catalog.Catalog) {
	for _, name := range slices.Sorted(maps.Keys(r.About.Places)) {
		place := r.About.Places[name]
		if place.ReadOnly || c != nil && !slices.ContainsFunc(c.Types, func(t *catalog.Type) bool { return t.Place(r.Name) == name }) {
			continue
		}
		if slices.ContainsFunc(place.Columns, func(col catalog.Column) bool { return col.Unreadable }) {
			r.NoRead = append(r.NoRead, name)
		}
		if place.CannotInsert {
			r.NoInsert = append(r.NoInsert, name)
		}
		if place.CannotUpdate {
			r.NoUpdate = append(r.NoUpdate, name)
		}
	}
}

// TestEnvironments opens environments, all of the workspace where none is named.
func TestEnvironments(ctx context.Context, s *session.Session, names []string) ([]EnvironmentReport, error) {
	if len(names) == 0 {
		for _, e := range s.Workspace.Environments {
			names = append(names, e.Name)
		}
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		c = nil // environments are tested before there is a catalog
	}
	var out []EnvironmentReport
	for _, name := range names {
		if _, err := s.Workspace.Environment(name); err != nil {
			return nil, err
		}
		r := EnvironmentReport{Name: name}
		for _, readOnly := range []bool{false, true} {
			env, err := s.Open(ctx, name, readOnly)
			if err == nil {
				r.About, err = env.Describe(ctx)
				_ = env.Close()
			}
			if r.Err = err; err == nil {
				break
			}
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		r.rights(c)
		out = append(out, r)
	}
	return out, nil
}

// NotReached says why an address did not serve of which nothing is written down yet.
func NotReached(cause error) error {
	var known *environment.Error
	if errors.As(cause, &known) && environment.NamesSetting(known.Mend) {
		cause = &environment.Error{Environment: known.Environment, Message: known.Message, Mend: "Correct its address.", Cause: known.Cause}
	}
	return fmt.Errorf("%w No workspace was started", cause)
}
