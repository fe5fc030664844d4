package fit

import (
	"context"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/core/yamldoc"
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

// setting reads the value of one record that holds a setting: in the field that is named, or
// the only one beside the key. Nil is no such record, or null.
func setting(ctx context.Context, env Seen, c *catalog.Catalog, name string, of workspace.Setting, zone *time.Location) (*string, error) {
	address := of.Setting
	p, err := record.ParsePattern(address)
	if err != nil {
		return nil, session.Usage("anagram.yaml: %v", err)
	}
	t, ok := c.Type(p.Type())
	if !ok || !p.Exact() {
		return nil, session.Usage("anagram.yaml names the setting %q, which is no address of a record type in the catalog", address)
	}
	fields := env.Fit.Fields[t.Name]
	at := record.FieldAt(fields, of.Field)
	if of.Field == "" && len(fields) == 1 {
		at = 0
	}
	if at < 0 {
		return nil, noOneField(of, t, fields, name)
	}
	fields = fields[at : at+1]
	model := &environment.Model{Environment: name, Catalog: c, Shapes: env.Fit.Shapes, Here: zone}
	_, key, err := c.ParseAddress(env.Fit.Shapes, address)
	if err != nil {
		return nil, session.Usage("anagram.yaml names a setting that cannot be: %v", err)
	}
	for rec, err := range env.Read(ctx, model, environment.Reading{Type: t.Name, Fields: fields, Keys: []record.Key{key}}) {
		if err != nil {
			return nil, err
		}
		if why, unreadable := rec.Values[0].Unreadable(); unreadable {
			return nil, session.Usage("anagram.yaml names the setting %s, whose %s cannot be read in %s: %s. Correct it there", of.Setting,
				fields[0].Name, name, why)
		}
		return show.Show(c, fields[0], rec.Values[0]), nil
	}
	return nil, nil
}

// noOneField says that it cannot be told in which field a setting is.
func noOneField(of workspace.Setting, t *catalog.Type, fields []record.Field, name string) error {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	switch {
	case len(fields) == 0:
		return session.Usage("anagram.yaml names the setting %s, but %s has no field beside its key in %s", of.Setting, t.Name, name)
	case of.Field != "":
		return session.Usage("anagram.yaml names field %q of the setting %s, which %s has not in %s%s", of.Field, of.Setting, t.Name,
			name, yamldoc.Nearest(of.Field, names))
	}
	return session.Usage("anagram.yaml names the setting %s, but %s has %d fields beside its key in %s (%s); say which one it is, as in {setting: %s, field: %s}",
		of.Setting, t.Name, len(fields), name, strings.Join(names, ", "), of.Setting, names[len(names)-1])
}

// releaseOf gives the release of an environment, "" where it is not known.
func releaseOf(ctx context.Context, env Seen, c *catalog.Catalog, e workspace.Environment) (string, error) {
	if e.Release.Setting == "" {
		return e.Release.Text, nil
	}
	value, err := setting(ctx, env, c, e.Name, workspace.Setting{Setting: e.Release.Setting, Field: e.Release.Field}, e.Zone)
	if err != nil || value == nil {
		return "", err
	}
	return *value, nil
}

// Settings reads the settings that have to be equal; those that are not there are left out.
func Settings(ctx context.Context, s *session.Session, env Seen, c *catalog.Catalog, name string) (map[string]string, error) {
	out := map[string]string{}
	for _, one := range s.Workspace.MustAgree {
		value, err := setting(ctx, env, c, name, one, s.Zone(name))
		if err != nil {
			return nil, err
		}
		if value != nil {
			out[one.Name()] = *value
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
	for _, one := range s.Workspace.MustAgree {
		address := one.Name()
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
