package fit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/files/spill"
	"anagram/internal/flow/session"
)

// CatalogReport says how the catalog holds in an environment.
type CatalogReport struct {
	Environment string
	Problems    []catalog.Problem
	Records     map[string]int // by type, where it holds
}

// Broken counts the problems that an export or a match would stop at.
func (r CatalogReport) Broken() int {
	n := 0
	for _, p := range r.Problems {
		if !p.Caution {
			n++
		}
	}
	return n
}

// CatalogReports say how the catalog holds in several environments, and what shows only
// where they are seen side by side.
type CatalogReports struct {
	Environments []CatalogReport
	OneSided     []string      // fields that not all of them have
	Checks       []check.Check // of a source and a target: releases, settings that must agree
}

// CheckCatalog compares the catalog with environments: places, fields, rights to read,
// references that lead nowhere, keys that occur twice or are null.
func CheckCatalog(ctx context.Context, s *session.Session, names []string) (CatalogReports, error) {
	var out CatalogReports
	c, err := s.Workspace.Catalog()
	if err != nil {
		return out, err
	}
	given := len(names)
	if given == 0 {
		for _, e := range s.Workspace.Environments {
			names = append(names, e.Name)
		}
	}
	fields := map[string]map[string][]record.Field{}
	for _, name := range names {
		report, fit, err := checkIn(ctx, s, c, name)
		if err != nil {
			return out, err
		}
		out.Environments = append(out.Environments, report)
		fields[name] = fit.Fields
	}
	out.OneSided = oneSided(c, names, fields)
	if given != 0 && given != 2 || slices.ContainsFunc(out.Environments, func(r CatalogReport) bool { return r.Broken() > 0 }) {
		return out, nil
	}
	for _, target := range names[min(1, len(names)):] { // a source and a target, or the first as the source of each other
		checks, err := fitOf(ctx, s, c, names[0], target)
		if err != nil {
			return out, err
		}
		for _, one := range checks {
			if !slices.ContainsFunc(out.Checks, one.Is) {
				out.Checks = append(out.Checks, one)
			}
		}
	}
	return out, nil
}

// oneSided names the fields that not all of the environments have.
func oneSided(c *catalog.Catalog, names []string, fields map[string]map[string][]record.Field) []string {
	var out []string
	for _, t := range c.Types {
		all := map[string][]string{}
		var order []string
		for _, name := range names {
			for _, field := range fields[name][t.Name] {
				if all[field.Name] == nil {
					order = append(order, field.Name)
				}
				all[field.Name] = append(all[field.Name], name)
			}
		}
		for _, field := range order {
			if has := all[field]; len(has) < len(names) {
				without := slices.DeleteFunc(slices.Clone(names), func(n string) bool {
					return slices.Contains(has, n) ||
						fields[n][t.Name] == nil
				})
				if len(without) > 0 {
					out = append(out, fmt.Sprintf("%s.%s is in %s but not in %s; it is not compared", t.Name, field,
						strings.Join(has, ", "), strings.Join(without, ", ")))
				}
			}
		}
	}
	return out
}

func checkIn(ctx context.Context, s *session.Session, c *catalog.Catalog, name string) (CatalogReport, catalog.Fit, error) {
	report := CatalogReport{Environment: name, Records: map[string]int{}}
	env, err := s.OpenDescribed(ctx, name, c)
	if err != nil {
		return report, catalog.Fit{}, err
	}
	defer env.Close()
	report.Problems = env.Fit.Problems
	model := &environment.Model{Environment: name, Catalog: c, Shapes: env.Fit.Shapes, Here: s.Zone(name)}
	dangling, err := danglingReferences(ctx, env, c, name)
	if err != nil {
		return report, env.Fit, err
	}
	for _, t := range c.Types {
		report.Problems = append(report.Problems, dangling[t.Name]...)
		if len(env.Problems(c, []string{t.Name})) > 0 || len(dangling[t.Name]) > 0 {
			continue
		}
		problems, n, err := checkRecords(ctx, s, env, model, t)
		if err != nil {
			return report, env.Fit, err
		}
		report.Problems = append(report.Problems, problems...)
		report.Problems = append(report.Problems, writing(env, t, name)...)
		unsigned, err := signing(ctx, s, env, model, t)
		if err != nil {
			return report, env.Fit, err
		}
		report.Problems = append(report.Problems, unsigned...)
		report.Records[t.Name] = n
	}
	suspects, err := Suspects(ctx, env, c, name, func(string) bool { return true })
	if err != nil {
		return report, env.Fit, err
	}
	for _, one := range suspects {
		t, _ := c.Type(one.Type)
		at := t.Line()
		if one.Key {
			at = t.Line("key")
		}
		report.Problems = append(report.Problems, catalog.Problem{Type: t.Name, Line: at, Caution: true,
			Message: check.IDFacts(t.Name, one.Field, one.To, one.Form, one.Key) + " " +
				check.IDMend(one.Field, one.To, one.Form, one.Text)})
	}
	if report.Broken() > 0 { // what is wrong is told first
		return report, env.Fit, nil
	}
	_, err = SideOf(ctx, s, Of(env), c, name) // what is said of releases and settings can be read
	return report, env.Fit, err
}

// writing says what the account may not do with a type, which matters for a target.
func writing(env session.Described, t *catalog.Type, name string) []catalog.Problem {
	place := env.About.Places[t.Place(name)]
	what := ""
	switch {
	case place.ReadOnly:
		what = fmt.Sprintf("%s is a view, which is only read; nothing can be imported into it", place.Name)
	case place.CannotInsert && place.CannotUpdate:
		what = fmt.Sprintf("the account may not add to %s nor change it; nothing can be imported into it, only exported", place.Name)
	case place.CannotInsert:
		what = fmt.Sprintf("the account may not add to %s; new records cannot be imported into it", place.Name)
	case place.CannotUpdate:
		what = fmt.Sprintf("the account may not change %s; only new records can be imported into it", place.Name)
	default:
		return nil
	}
	return []catalog.Problem{{Type: t.Name, Line: t.Line("at"), Caution: true, Message: what}}
}

// danglingReferences counts for each type the references that lead nowhere.
func danglingReferences(ctx context.Context, env session.Described, c *catalog.Catalog, name string) (map[string][]catalog.Problem, error) {
	out := map[string][]catalog.Problem{}
	prober := env.Environment.Can().Prober
	if prober == nil {
		return out, nil
	}
	const all = 1 << 40
	for _, t := range c.Types {
		if len(env.Problems(c, []string{t.Name})) > 0 {
			continue
		}
		for _, field := range t.ReferenceFields() {
			ref := t.Refers[field]
			to, _ := c.Type(ref.One())
			if !ref.Plain() || t.Only != "" || to.Only != "" {
				continue // reading the records finds those
			}
			column := to.ID
			if column == "" || ref.ByKey {
				column = to.Key[0]
			}
			n, err := prober.Dangling(ctx, t.Place(name), field, to.Place(name), column, ref.None, all)
			if err != nil {
				return nil, err
			}
			if n > 0 {
				out[t.Name] = append(out[t.Name], catalog.Problem{Type: t.Name, Line: t.Line("refers", field), Message: fmt.Sprintf(
					"%s to no %s with field %s; correct this in %s, or put the field under ignore:",
					show.Count(n, "record refers", "records refer"), to.Name, field, name)})
			}
		}
	}
	return out, nil
}

// checkRecords reads every record of a type: what cannot be read is what an export
// would meet; keys that are null or occur twice are told with how often.
func checkRecords(ctx context.Context, s *session.Session, env session.Described, model *environment.Model,
	t *catalog.Type) ([]catalog.Problem, int, error) {
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return nil, 0, err
	}
	sorter := spill.NewSorter(scratch)
	defer sorter.Close()
	s.Progress.Start("reading "+t.Name, s.Total(ctx, env, env.About.Places[t.Place(model.Environment)].Name))
	defer s.Progress.Done()
	nulls := 0
	var unread unreadable
	for rec, err := range env.Read(ctx, model, environment.Reading{Type: t.Name, Fields: env.Fit.Fields[t.Name],
		Unkeyed: unread.key}) {
		if ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		if err != nil {
			return []catalog.Problem{{Type: t.Name, Line: t.Line(), Message: err.Error()}}, sorter.Count(), nil
		}
		unread.values(env.Fit.Fields[t.Name], model.Catalog.Address(t.Name, rec.Key), rec)
		if slices.ContainsFunc(rec.Key.Parts(), record.Value.IsNull) && !isRoot(t, rec.Key) {
			nulls++
		}
		if err := sorter.Add(spill.Entry{Order: rec.Key.Order(), Payload: []byte(model.Catalog.Address(t.Name, rec.Key))}); err != nil {
			return nil, 0, err
		}
		s.Progress.Add(1)
	}
	twice, example, last, counted := 0, "", "", false
	for entry, err := range sorter.Sorted() {
		if err != nil {
			return nil, 0, err
		}
		if entry.Order == last && sorter.Count() > 1 && last != "" {
			if !counted {
				twice++
				counted = true
			}
			if example == "" {
				example = string(entry.Payload)
			}
		} else {
			counted = false
		}
		last = entry.Order
	}
	var problems []catalog.Problem
	note := func(message string) {
		problems = append(problems, catalog.Problem{Type: t.Name, Line: t.Line("key"), Message: message, Caution: true})
	}
	if twice > 0 {
		note(fmt.Sprintf("%s more than once, such as %s; a match names this and never guesses",
			show.Count(twice, "key occurs", "keys occur"), example))
	}
	for _, message := range unread.messages() {
		note(message)
	}
	if nulls > 0 {
		note(show.Count(nulls, "record has a null in its key", "records have a null in their key"))
	}
	return problems, sorter.Count(), nil
}

// isRoot reports whether all that is null in a key is the parent of a tree's root.
func isRoot(t *catalog.Type, key record.Key) bool {
	for i, part := range key.Parts() {
		if part.IsNull() && t.Refers[t.Key[i]].One() != t.Name {
			return false
		}
	}
	return true
}
