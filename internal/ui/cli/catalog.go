package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/draft"
	"anagram/internal/core/show"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

func (a *app) catalogCommand() *cobra.Command {
	show := a.catalogShowCommand()
	c := &cobra.Command{Use: "catalog", Short: "Draft and show the description of record types, check that it holds", Example: "  anagram catalog\n  anagram catalog check", RunE: a.orList(show)}
	c.AddCommand(a.catalogDraftCommand(), show, a.catalogCheckCommand())
	return c
}

func (a *app) catalogDraftCommand() *cobra.Command {
	var out, into string
	var wish draft.Wish
	cmd := &cobra.Command{
		Use:   "draft SOURCE [TARGET]",
		Short: "Draft a catalog from one or two live environments: keys, references, parts, stamps",
		Long: `Reads what an environment states about its tables (primary keys, unique indexes,
foreign keys) and looks at a part of the data, and writes a first catalog. With two
environments of one application the data of both sides decide what one alone cannot:
by which key records meet, which numbers are internal ids, what grows with use. Every
guess has a comment with its reason; what was left out or is not sure is listed at the
end, each table once. Columns that look like secrets are not looked at.`,
		Example: "  anagram catalog draft sandbox production\n  anagram catalog draft sandbox production --out drafted.yaml",
		RunE: a.step(1, 2, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if into != "" {
				if out != "" {
					return &session.UsageError{Message: "--out writes a new file and --into brings into one that there is; give one of them"}
				}
				return a.draftInto(cmd.Context(), s, inspect.Drafting{Environments: given, Wish: wish}, into)
			}
			path := ""
			if out != "" {
				path = a.path(out)
			}
			d, text, err := inspect.Draft(cmd.Context(), s, inspect.Drafting{Environments: given, Wish: wish}, path)
			if err != nil {
				return err
			}
			guesses := strings.Count(string(text), "# guess: ")
			if a.json {
				return a.printJSON(draftJSON(d, given, guesses, text))
			}
			if out == "" {
				_, err := a.Out.Write(text)
				return err
			}
			fmt.Fprintln(a.Out, a.wrap(drafted(d, out, guesses), ""))
			a.next("read " + out + ", its end first, then: " + a.checkOf(s, given, out))
			return nil
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "write the draft to this new file instead of standard output")
	cmd.Flags().StringVar(&into, "into", "", "bring what is new into this catalog and leave all else in it as it stands")
	cmd.Flags().StringSliceVar(&wish.With, "with", nil, "tables (or patterns) to make types for whatever the data say")
	cmd.Flags().StringSliceVar(&wish.Without, "without", nil, "tables (or patterns) to leave out")
	return cmd
}

func (a *app) draftInto(ctx context.Context, s *session.Session, of inspect.Drafting, into string) error {
	brought, err := inspect.DraftInto(ctx, s, of, a.path(into), into)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": into, "added": append([]string{}, brought.Added...), "missing": append([]string{}, brought.Missing...), "named": append([]string{}, brought.Named...)})
	}
	if len(brought.Added) == 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s has all tables of %s that look like setup; nothing was added.", into, strings.Join(of.Environments, " and ")), ""))
	} else {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Brought %s into %s: %s. All that was there is as it was.", count(len(brought.Added), "record type"), into, strings.Join(brought.Added, ", ")), ""))
	}
	if len(brought.Named) > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Left alone, as a comment there names them: %s. --with TABLE brings one in all the same.", some(brought.Named, 12)), ""))
	}
	if len(brought.Missing) > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Of types that %s has, it takes these fields for plain values:", into), ""))
		for _, line := range brought.Missing {
			fmt.Fprintln(a.Out, a.wrap("  "+line, "    "))
		}
	}
	a.next(a.checkOf(s, of.Environments, into))
	return nil
}

// checkOf is the command that checks a catalog file in environments.
func (a *app) checkOf(s *session.Session, environments []string, file string) string {
	words := []string{"anagram catalog check"}
	for _, name := range environments {
		words = append(words, show.Arg(name))
	}
	if a.path(file) != s.Workspace.Path(s.Workspace.CatalogName()) {
		words = append(words, "--catalog "+show.Arg(file))
	}
	return strings.Join(words, " ")
}

// drafted says in a sentence what came of a draft.
func drafted(d *draft.Draft, out string, guesses int) string {
	doubtful, left := 0, 0
	for _, n := range d.Notes {
		if n.Type == "" {
			left++
		} else {
			doubtful++
		}
	}
	text := fmt.Sprintf("Drafted %s from %s into %s, with %s to confirm; %s left out.", count(len(d.Types), "record type"), strings.Join(d.From, " and "), out, count(guesses, "guess"), count(left, "table"))
	if doubtful > 0 {
		text += fmt.Sprintf(" %s to be looked at first; the end of the file says which and why.", map[bool]string{true: "1 record type has", false: fmt.Sprintf("%d record types have", doubtful)}[doubtful == 1])
	}
	return text
}

func draftJSON(d *draft.Draft, from []string, guesses int, text []byte) map[string]any {
	left, doubtful := []map[string]any{}, []map[string]any{}
	for _, n := range d.Notes {
		one := map[string]any{"table": n.Place, "rows": n.Rows, "why": n.Why}
		if n.Type == "" {
			left = append(left, one)
			continue
		}
		one["type"] = n.Type
		doubtful = append(doubtful, one)
	}
	return map[string]any{"environments": from, "types": len(d.Types), "left_out": left, "doubtful": doubtful, "guesses": guesses, "catalog": string(text)}
}

func (a *app) catalogShowCommand() *cobra.Command {
	var of, out string
	cmd := &cobra.Command{
		Use:   "show [TYPE]",
		Short: "Show record types in dependency order, or one of them in full",
		Long: `Shows the record types of the catalog in dependency order, or one of them in full.
With --docket it is the catalog by which that docket was matched; with --out as well
its text is written into a new file, as it was.`,
		Example: "  anagram catalog show\n  anagram catalog show assay\n  anagram catalog show --docket 1 --out catalog-of-1.yaml",
		RunE: a.step(0, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if of == "" && out != "" {
				return &session.UsageError{Message: "--out goes with --docket"}
			}
			c, err := a.catalogOf(cmd.Context(), s, of)
			if err != nil {
				return err
			}
			if out != "" {
				return a.writeCatalog(c, of, out)
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
	cmd.Flags().StringVar(&of, "docket", "", "the catalog by which this docket was matched")
	cmd.Flags().StringVar(&out, "out", "", "write its text into this new file")
	return cmd
}

// catalogOf gives the catalog of the workspace, or that of a docket.
func (a *app) catalogOf(ctx context.Context, s *session.Session, of string) (*catalog.Catalog, error) {
	if of == "" {
		return s.Workspace.Catalog()
	}
	if strings.ContainsAny(of, "/.") {
		of = a.path(of)
	}
	d, err := s.OpenDocket(ctx, of)
	if err != nil {
		return nil, err
	}
	return d.Catalog, d.Close()
}

func (a *app) writeCatalog(c *catalog.Catalog, of, out string) error {
	if err := a.newFile(out, func(w io.Writer) error {
		_, err := w.Write(c.Source)
		return err
	}); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"docket": of, "file": out, "types": len(c.Types)})
	}
	fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("The catalog of docket %s, of %s, was written into %s.", of, count(len(c.Types), "record type"), out), ""))
	return nil
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
		t.Add(typ.Name, strings.Join(typ.Key, ", "), strings.Join(refersTo(typ), ", "))
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

func (a *app) catalogCheckCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "check [ENV...]",
		Short: "Check that the catalog holds in environments: places, fields, keys, references",
		Long: `Checks that the catalog holds in environments, all of the workspace where none is
named. Of two, the first is taken for the source and the second for the target: then
their releases and the settings that must agree are compared as well; where none is
named, the first of the workspace with each other.`,
		Example: "  anagram catalog check\n  anagram catalog check sandbox production --catalog drafted.yaml",
		RunE: a.step(0, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if file != "" {
				s.Workspace = s.Workspace.WithCatalog(a.path(file), file)
			}
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
			switch {
			case codeOfResult(reports) != exitDone || len(reports.Environments) == 0:
			case file != "" && a.path(file) != s.Workspace.Path("catalog.yaml"):
				a.next("let catalog: in anagram.yaml name "+file+", then: anagram export", arg(reports.Environments[0].Environment))
			default:
				a.next("anagram export", arg(reports.Environments[0].Environment))
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&file, "catalog", "", "check this file instead of the workspace's catalog")
	return cmd
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
