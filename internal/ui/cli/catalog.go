package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

func (a *app) catalogCommand() *cobra.Command {
	c := &cobra.Command{Use: "catalog", Short: "Draft and show the description of record types, check that it holds", RunE: a.needsSub("catalog draft|show|check")}
	c.AddCommand(a.catalogDraftCommand(), a.catalogShowCommand(), a.catalogCheckCommand())
	return c
}

func (a *app) catalogDraftCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "draft ENV",
		Short: "Draft a catalog from a live environment: keys, references, parts, stamps",
		Long: `Reads what an environment states about its tables (primary keys, unique indexes,
foreign keys) and looks at a part of the data, and writes a first catalog. Every guess
has a comment with its reason. Columns that look like secrets are not looked at.`,
		Example: "  anagram catalog draft sandbox\n  anagram catalog draft sandbox --out catalog.yaml",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			path := ""
			if out != "" {
				path = a.path(out)
			}
			d, text, err := inspect.Draft(cmd.Context(), s, given[0], path)
			if err != nil {
				return err
			}
			guesses := strings.Count(string(text), "# guess: ")
			if a.json {
				return a.printJSON(map[string]any{"environment": given[0], "types": len(d.Types), "left_out": len(d.LeftOut), "guesses": guesses, "catalog": string(text)})
			}
			if out == "" {
				_, err := a.Out.Write(text)
				return err
			}
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Drafted %s from %s into %s, with %s to confirm; %s left out.",
				count(len(d.Types), "record type"), given[0], out, count(guesses, "guess"), count(len(d.LeftOut), "table")), ""))
			a.next("read "+out+", then: anagram catalog check", arg(given[0]))
			return nil
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "write the draft to this new file instead of standard output")
	return cmd
}

func (a *app) catalogShowCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show [TYPE]",
		Short: "Show record types in dependency order, or one of them in full",
		RunE: a.step(0, 1, func(_ *cobra.Command, s *session.Session, given []string) error {
			c, err := s.Workspace.Catalog()
			if err != nil {
				return err
			}
			if len(given) == 1 {
				t, ok := c.Type(given[0])
				if !ok {
					return &session.UsageError{Message: fmt.Sprintf("The catalog has no record type %q%s", given[0], yamldoc.Nearest(given[0], c.Names()))}
				}
				return a.showType(c, t)
			}
			return a.showTypes(c)
		}),
	}
}

func (a *app) showTypes(c *catalog.Catalog) error {
	if a.json {
		list := []map[string]any{}
		for _, t := range c.Types {
			list = append(list, typeJSON(c, t))
		}
		return a.printJSON(map[string]any{"types": list})
	}
	t := text.Table{Columns: []string{"record type", "key", "refers to"}}
	for _, typ := range c.Types {
		t.Add(typ.Name, strings.Join(keyWords(typ), ", "), strings.Join(refersTo(typ), ", "))
	}
	a.printTable(t, "")
	if len(c.Areas) > 0 {
		fmt.Fprintln(a.Out)
		areas := text.Table{Columns: []string{"area", "record types"}}
		for _, area := range c.Areas {
			areas.Add(area.Name, strings.Join(area.Types, ", "))
		}
		a.printTable(areas, "")
	}
	return nil
}

func typeJSON(c *catalog.Catalog, t *catalog.Type) map[string]any {
	areas := []string{}
	for _, area := range c.Areas {
		if slices.Contains(area.Types, t.Name) {
			areas = append(areas, area.Name)
		}
	}
	return map[string]any{"type": t.Name, "at": t.At, "key": t.Key, "id": t.ID, "refers": refersJSON(t), "only": t.Only, "part_of": t.PartOf, "areas": areas}
}

// refersJSON gives the record type of each reference, a list where there are several.
func refersJSON(t *catalog.Type) map[string]any {
	out := map[string]any{}
	for field, ref := range t.Refers {
		if out[field] = ref.To; len(ref.To) == 1 {
			out[field] = ref.To[0]
		}
	}
	return out
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

// keyWords names the key's fields; references by the type that they point at.
func keyWords(t *catalog.Type) []string {
	var out []string
	for _, field := range t.Key {
		if to := t.Refers[field].One(); to != "" {
			field = to
		}
		out = append(out, field)
	}
	return out
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

func (a *app) showType(c *catalog.Catalog, t *catalog.Type) error {
	if a.json {
		return a.printJSON(typeJSON(c, t))
	}
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%-12s%s", name, text), "            "))
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
	line("ignored", strings.Join(t.Ignore, ", "))
	line("files", strings.Join(t.Files, ", "))
	line("stamp", strings.Trim(t.StampAt+", "+t.StampBy, ", "))
	if t.Retired.Field != "" {
		line("retired", t.Retired.Field+" is "+strings.Join(t.Retired.Values, " or "))
	}
	return nil
}

func (a *app) catalogCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check [ENV...]",
		Short: "Check that the catalog holds in environments: places, fields, keys, references",
		Long: `Checks that the catalog holds in environments, all of the workspace where none is
named. Of two, the first is taken for the source and the second for the target: then
their releases and the settings that must agree are compared as well.`,
		RunE: a.step(0, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			reports, err := fit.CheckCatalog(cmd.Context(), s, given)
			if err != nil {
				return err
			}
			a.result = reports
			list := []map[string]any{}
			for _, r := range reports.Environments {
				list = append(list, a.printCheck(s, r))
			}
			if a.json {
				return a.printJSON(map[string]any{"environments": list, "one_sided": append([]string{}, reports.OneSided...), "checks": append([]check.Check{}, reports.Checks...)})
			}
			for _, text := range reports.OneSided {
				fmt.Fprintln(a.out(), a.wrap(tone("caution")+" "+text+".", "  "))
			}
			for _, c := range reports.Checks {
				fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("%s %s: %s %s", tone(string(c.Level)), c.Code, c.Message, c.Mend), "  "))
			}
			if codeOfResult(reports) == exitDone && len(reports.Environments) > 0 {
				a.next("anagram export", arg(reports.Environments[0].Environment))
			}
			return nil
		}),
	}
}

// printCheck prints how the catalog holds in one environment, and gives it as JSON has it.
func (a *app) printCheck(s *session.Session, r fit.CatalogReport) map[string]any {
	problems := []map[string]any{}
	broken, records := r.Broken(), 0
	for _, p := range r.Problems {
		level := "blocker"
		if p.Caution {
			level = "caution"
		}
		problems = append(problems, map[string]any{"type": p.Type, "line": p.Line, "level": level, "message": p.Message})
	}
	for _, n := range r.Records {
		records += n
	}
	if !a.json {
		if broken == 0 {
			printf(a.Out, "%s: the catalog holds for all %s, %s read.\n", r.Environment, count(len(r.Records), "record type"), count(records, "record"))
		} else {
			printf(a.Out, "%s: %s\n", r.Environment, count(broken, "problem"))
		}
		for _, p := range r.Problems {
			level := ""
			if p.Caution {
				level = tone("caution") + " "
			}
			fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("  %s%s line %d, %s: %s", level, s.Workspace.CatalogName(), p.Line, p.Type, p.Message), "  "))
		}
	}
	return map[string]any{"environment": r.Environment, "holds": broken == 0, "problems": problems, "records": r.Records}
}
