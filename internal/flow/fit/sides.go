package fit

import (
	"context"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/workspace"
)

// The fit of two environments: their releases and the settings that have to be equal.

// Seen is what is read of an environment, with the catalog seen against it.
type Seen struct {
	environment.Reader
	Fit catalog.Fit
}

// Of gives what is seen of an open environment.
func Of(d session.Described) Seen { return Seen{d.Environment, d.Fit} }

// setting reads the value of one record that holds a setting: the record type has
// exactly one field beside its key. Nil is no such record, or null.
func setting(ctx context.Context, env Seen, c *catalog.Catalog, name, address string, zone *time.Location) (*string, error) {
	p, err := record.ParsePattern(address)
	if err != nil {
		return nil, session.Usage("anagram.yaml: %v", err)
	}
	t, ok := c.Type(p.Type())
	if !ok || !p.Exact() {
		return nil, session.Usage("anagram.yaml names the setting %q, which is no address of a record type in the catalog", address)
	}
	fields := env.Fit.Fields[t.Name]
	if len(fields) != 1 {
		return nil, session.Usage("anagram.yaml names the setting %s, but %s has %d fields beside its key in %s; a setting has one", address, t.Name, len(fields), name)
	}
	model := &environment.Model{Environment: name, Catalog: c, Shapes: env.Fit.Shapes, Here: zone}
	_, key, err := c.ParseAddress(env.Fit.Shapes, address)
	if err != nil {
		return nil, session.Usage("anagram.yaml names a setting that cannot be: %v", err)
	}
	for rec, err := range env.Read(ctx, model, environment.Reading{Type: t.Name, Fields: fields, Keys: []record.Key{key}}) {
		if err != nil {
			return nil, err
		}
		return show.Show(c, fields[0], rec.Values[0]), nil
	}
	return nil, nil
}

// releaseOf gives the release of an environment, "" where it is not known.
func releaseOf(ctx context.Context, env Seen, c *catalog.Catalog, e workspace.Environment) (string, error) {
	if e.Release.Setting == "" {
		return e.Release.Text, nil
	}
	value, err := setting(ctx, env, c, e.Name, e.Release.Setting, e.Zone)
	if err != nil || value == nil {
		return "", err
	}
	return *value, nil
}

// Settings reads the settings that have to be equal; those that are not there are left out.
func Settings(ctx context.Context, s *session.Session, env Seen, c *catalog.Catalog, name string) (map[string]string, error) {
	out := map[string]string{}
	for _, address := range s.Workspace.MustAgree {
		value, err := setting(ctx, env, c, name, address, s.Zone(name))
		if err != nil {
			return nil, err
		}
		if value != nil {
			out[address] = *value
		}
	}
	return out, nil
}

// Side is one environment as far as its fit is concerned.
type Side struct {
	Name     string
	Release  string
	Settings map[string]string
}

// Checks compares two sides: the release by the target's policy, the settings always.
func Checks(s *session.Session, source, target Side, policy string) []check.Check {
	var out []check.Check
	if c, bad := check.Releases(source.Name, target.Name, source.Release, target.Release, policy); bad {
		out = append(out, c)
	}
	value := func(of Side, address string) *string {
		if v, ok := of.Settings[address]; ok {
			return &v
		}
		return nil
	}
	for _, address := range s.Workspace.MustAgree {
		if c, bad := check.Agreement(address, source.Name, target.Name, value(source, address), value(target, address)); bad {
			out = append(out, c)
		}
	}
	return out
}

// SideOf reads what the fit of an environment depends on.
func SideOf(ctx context.Context, s *session.Session, env Seen, c *catalog.Catalog, name string) (Side, error) {
	e, err := s.Workspace.Environment(name)
	if err != nil {
		return Side{}, err
	}
	out := Side{Name: name}
	if out.Release, err = releaseOf(ctx, env, c, e); err != nil {
		return out, err
	}
	out.Settings, err = Settings(ctx, s, env, c, name)
	return out, err
}

// fitOf compares what has to fit between a source and a target.
func fitOf(ctx context.Context, s *session.Session, c *catalog.Catalog, source, target string) ([]check.Check, error) {
	var sides []Side
	for _, name := range []string{source, target} {
		env, err := s.OpenDescribed(ctx, name, c)
		if err != nil {
			return nil, err
		}
		one, err := SideOf(ctx, s, Of(env), c, name)
		_ = env.Close()
		if err != nil {
			return nil, err
		}
		sides = append(sides, one)
	}
	e, err := s.Workspace.Environment(target)
	return Checks(s, sides[0], sides[1], e.Guard.Release), err
}
