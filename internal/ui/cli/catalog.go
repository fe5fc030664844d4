package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/catalog"
	"anagram/internal/core/draft"
	"anagram/internal/core/show"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func catalogCommand(a *app) *cobra.Command {
	show := catalogShowCommand(a)
	c := &cobra.Command{Use: "catalog", Short: "Draft and show the description of record types, check that it holds",
		Example: "  anagram catalog\n  anagram catalog check", RunE: orList(a, show)}
	c.AddCommand(catalogDraftCommand(a), show, catalogCheckCommand(a))
	return c
}

func catalogDraftCommand(a *app) *cobra.Command {
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
				return draftInto(cmd.Context(), a, s, inspect.Drafting{Environments: given, Wish: wish}, into)
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
			if a.JSON {
				return a.PrintJSON(wire.DraftOf(d, given, guesses, text))
			}
			if out == "" {
				_, err := a.Out.Write(text)
				return err
			}
			fmt.Fprintln(a.Out, a.Wrap(drafted(d, out, guesses), ""))
			a.Next("read " + out + ", its end first, then: " + checkOf(a, s, given, out))
			return nil
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "write the draft to this new file instead of standard output")
	cmd.Flags().StringVar(&into, "into", "", "bring what is new into this catalog and leave all else in it as it stands")
	cmd.Flags().StringSliceVar(&wish.With, "with", nil, "tables (or patterns) to make types for whatever the data say")
	cmd.Flags().StringSliceVar(&wish.Without, "without", nil, "tables (or patterns) to leave out")
	return cmd
}

func draftInto(ctx context.Context, a *app, s *session.Session, of inspect.Drafting, into string) error {
	brought, err := inspect.DraftInto(ctx, s, of, a.path(into), into)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.DraftedInto{File: into, Added: present.OrEmpty(brought.Added), Missing: present.OrEmpty(brought.Missing),
			Named: present.OrEmpty(brought.Named)})
	}
	if len(brought.Added) == 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s has all tables of %s that look like setup; nothing was added.", into,
			strings.Join(of.Environments, " and ")), ""))
	} else {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("Brought %s into %s: %s. All that was there is as it was.",
			present.Count(len(brought.Added), "record type"), into, strings.Join(brought.Added, ", ")), ""))
	}
	if len(brought.Named) > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("Left alone, as a comment there names them: %s. --with TABLE brings one in all the same.",
				present.Some(brought.Named, 12)), ""))
	}
	if len(brought.Missing) > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("Of types that %s has, it takes these fields for plain values:", into), ""))
		for _, line := range brought.Missing {
			fmt.Fprintln(a.Out, a.Wrap("  "+line, "    "))
		}
	}
	a.Next(checkOf(a, s, of.Environments, into))
	return nil
}

// checkOf is the command that checks a catalog file in environments.
func checkOf(a *app, s *session.Session, environments []string, file string) string {
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
	text := fmt.Sprintf("Drafted %s from %s into %s, with %s to confirm; %s left out.", present.Count(len(d.Types), "record type"),
		strings.Join(d.From, " and "), out, present.Count(guesses, "guess"), present.Count(left, "table"))
	if doubtful > 0 {
		text += fmt.Sprintf(" %s to be looked at first; the end of the file says which and why.",
			map[bool]string{true: "1 record type has", false: fmt.Sprintf("%d record types have", doubtful)}[doubtful == 1])
	}
	return text
}

func catalogShowCommand(a *app) *cobra.Command {
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
			c, err := catalogOf(cmd.Context(), a, s, of)
			if err != nil {
				return err
			}
			if out != "" {
				return writeCatalog(a, c, of, out)
			}
			if len(given) == 1 {
				t, ok := c.Type(given[0])
				if !ok {
					return &session.UsageError{Message: fmt.Sprintf("The catalog has no record type %q%s", given[0],
						yamldoc.Nearest(given[0], c.Names()))}
				}
				return present.Type(a.Page, c, t)
			}
			return present.Types(a.Page, c)
		}),
	}
	cmd.Flags().StringVar(&of, "docket", "", "the catalog by which this docket was matched")
	cmd.Flags().StringVar(&out, "out", "", "write its text into this new file")
	return cmd
}

// catalogOf gives the catalog of the workspace, or that of a docket.
func catalogOf(ctx context.Context, a *app, s *session.Session, of string) (*catalog.Catalog, error) {
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

func writeCatalog(a *app, c *catalog.Catalog, of, out string) error {
	if err := newFile(a, out, func(w io.Writer) error {
		_, err := w.Write(c.Source)
		return err
	}); err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.CatalogFile{Docket: of, File: out, Types: len(c.Types)})
	}
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("The catalog of docket %s, of %s, was written into %s.", of,
		present.Count(len(c.Types), "record type"), out), ""))
	return nil
}

func catalogCheckCommand(a *app) *cobra.Command {
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
			a.Result = reports
			if a.JSON {
				return a.PrintJSON(wire.CatalogCheckOf(reports))
			}
			for _, r := range reports.Environments {
				present.CatalogCheck(a.Page, s, r)
			}
			for _, text := range reports.OneSided {
				fmt.Fprintln(a.Coloured(), a.Wrap(present.Tone("caution")+" "+text+".", "  "))
			}
			for _, c := range reports.Checks {
				fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf("%s %s: %s %s", present.Tone(string(c.Level)), c.Code, c.Message,
					c.Mend), "  "))
			}
			switch {
			case codeOfResult(reports) != exitDone || len(reports.Environments) == 0:
			case file != "" && a.path(file) != s.Workspace.Path("catalog.yaml"):
				a.Next("let catalog: in anagram.yaml name "+file+", then: anagram export", present.Arg(reports.Environments[0].Environment))
			default:
				a.Next("anagram export", present.Arg(reports.Environments[0].Environment))
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&file, "catalog", "", "check this file instead of the workspace's catalog")
	return cmd
}
