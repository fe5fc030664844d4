package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Types lists the record types of a catalog.
func Types(a *Page, c *catalog.Catalog) error {
	if a.JSON {
		list := wire.Catalog{Types: []wire.Type{}}
		for _, t := range c.Types {
			list.Types = append(list.Types, wire.TypeOf(c, t))
		}
		return a.PrintJSON(list)
	}
	t := text.Table{Columns: []string{"record type", "key", "refers to"}}
	for _, typ := range c.Types {
		t.Add(typ.Name, strings.Join(typ.Key, ", "), strings.Join(refersTo(typ), ", "))
	}
	a.PrintTable(t, "")
	if len(c.Areas) > 0 {
		fmt.Fprintln(a.Out)
		areas := text.Table{Columns: []string{"area", "record types"}}
		for _, area := range c.Areas {
			areas.Add(area.Name, strings.Join(area.Types, ", "))
		}
		a.PrintTable(areas, "")
	}
	return nil
}

// referenceWords says what a field refers to and how.
func referenceWords(field string, ref catalog.Reference) string {
	text := field + " to " + strings.Join(ref.To, " or ")
	switch {
	case ref.Chooser != "":
		text += " by " + ref.Chooser
	case ref.ByKey:
		text += " by key"
	case ref.Columns != nil:
		var columns []string
		for _, pair := range ref.Columns {
			columns = append(columns, pair.Here)
		}
		text += " with " + strings.Join(columns, " and ")
	case ref.Inside != nil:
		text += " inside its value"
	}
	return text
}

func refersTo(t *catalog.Type) []string {
	var out []string
	for _, to := range t.Targets() {
		if to == t.Name {
			to = "itself"
		}
		out = append(out, to)
	}
	slices.Sort(out)
	return out
}

// Type shows what a catalog says of one record type.
func Type(a *Page, c *catalog.Catalog, t *catalog.Type) error {
	if a.JSON {
		return a.PrintJSON(wire.TypeOf(c, t))
	}
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%-12s%s", name, text), "            "))
		}
	}
	line("record type", t.Name)
	places := make([]string, 0, len(t.At))
	for env, place := range t.At {
		if env != "" {
			place += " in " + env
		} else if len(t.At) > 1 {
			place += " elsewhere"
		}
		places = append(places, place)
	}
	slices.Sort(places)
	line("at", strings.Join(places, ", "))
	line("key", strings.Join(t.Key, ", "))
	line("internal id", t.ID)
	var refers []string
	for field, ref := range t.Refers {
		refers = append(refers, referenceWords(field, ref))
	}
	slices.Sort(refers)
	line("refers", strings.Join(refers, ", "))
	line("part of", t.PartOf)
	line("only", t.Only)
	line("title", t.Title)
	var local []string
	for field := range t.Local {
		local = append(local, field)
	}
	slices.Sort(local)
	line("local", strings.Join(local, ", "))
	line("secret", strings.Join(t.Secret, ", "))
	line("ignored", strings.Join(slices.Concat(t.Ignore, t.Everywhere), ", "))
	line("files", strings.Join(t.Files, ", "))
	line("stamp", strings.Trim(t.StampAt+", "+t.StampBy, ", "))
	line("derived", strings.Join(t.Derived, ", "))
	line("plain", strings.Join(t.Plain, ", "))
	if t.Retired.Field != "" {
		line("retired", t.Retired.Field+" is "+cmp.Or(t.Retired.When, strings.Join(t.Retired.Values, " or ")))
	}
	return nil
}

// CatalogCheck prints how the catalog holds in one environment, and gives it as JSON has it.
func CatalogCheck(a *Page, s *session.Session, r fit.CatalogReport) {
	broken, records := r.Broken(), 0
	for _, n := range r.Records {
		records += n
	}
	if broken == 0 {
		Printf(a.Out, "%s: the catalog holds for all %s, %s read.\n", r.Environment, Count(len(r.Records), "record type"),
			Count(records, "record"))
	} else {
		Printf(a.Out, "%s: %s\n", r.Environment, Count(broken, "problem"))
	}
	for _, p := range r.Problems {
		level := ""
		if p.Caution {
			level = Tone("caution") + " "
		}
		fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf("  %s%s line %d, %s: %s", level, s.Workspace.CatalogName(), p.Line, p.Type,
			p.Message), "  "))
	}
}
