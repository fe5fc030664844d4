package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/export"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/ui/present"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

func selectionCommand(a *app) *cobra.Command {
	list := selectionListCommand(a)
	cmd := &cobra.Command{
		Use:     "selection",
		Short:   "Selections that are kept, and grow while a change is built",
		Example: "  anagram selection\n  anagram selection add glucose assay/GLU",
		RunE:    orList(a, list),
	}
	cmd.AddCommand(list, selectionShowCommand(a), selectionAddCommand(a), selectionRemoveCommand(a))
	return cmd
}

func selectionListCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the selections that anagram.yaml has",
		Example: "  anagram selection list",
		RunE: a.step(0, 0, func(_ *cobra.Command, s *session.Session, _ []string) error {
			list := wire.Selections{Selections: []wire.Selection{}}
			t := text.Table{Columns: []string{"selection", "what it takes"}}
			for _, name := range choose.Names(s) {
				sel, err := choose.Named(s, name)
				if err != nil {
					return err
				}
				words := choose.SelectionWords(short(sel))
				list.Selections = append(list.Selections, wire.Selection{Selection: name, Records: present.OrEmpty(sel.Records),
					Takes: words})
				t.Add(name, words)
			}
			if a.JSON {
				return a.PrintJSON(list)
			}
			if len(list.Selections) == 0 {
				fmt.Fprintln(a.Out, "There are no selections yet; export --save-selection and selection add make them.")
				return nil
			}
			a.PrintTable(t, "")
			return nil
		}),
	}
}

// short is a selection whose records are only counted where there are many.
func short(s parcel.Selection) parcel.Selection {
	if n := len(s.Records); n > 4 {
		s.Records = append(append([]string{}, s.Records[:3]...), fmt.Sprintf("and %d more", n-3))
	}
	return s
}

func selectionShowCommand(a *app) *cobra.Command {
	var from string
	cmd := &cobra.Command{
		Use:   "show NAME",
		Short: "Show a selection, and with --from what it would bring from there",
		Long: `Shows what a selection names. With --from ENV it looks what an export from there would
take: each record with the reason, what comes along and through what, and what is
missing. Nothing is kept.`,
		Example: "  anagram selection show new-panel --from sandbox",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			sel, err := choose.Named(s, given[0])
			if err != nil {
				return err
			}
			if from != "" {
				return previewSelection(cmd.Context(), a, s, given[0], from)
			}
			if a.JSON {
				return a.PrintJSON(wire.Selection{Selection: given[0], Records: present.OrEmpty(sel.Records),
					Takes: choose.SelectionWords(sel)})
			}
			rest := sel
			rest.Records = nil
			if words := choose.SelectionWords(rest); len(sel.Records) == 0 || words != "everything in the catalog" {
				fmt.Fprintln(a.Out, a.Wrap(words, ""))
			}
			for _, r := range sel.Records {
				fmt.Fprintln(a.Coloured(), "  "+show.Harmless(r))
			}
			a.Next("anagram selection show", present.Arg(given[0]), "--from ENVIRONMENT")
			return nil
		}),
	}
	cmd.Flags().StringVar(&from, "from", "", "the environment that an export would read")
	return cmd
}

// previewSelection exports into a folder that is thrown away, and lists what was taken.
func previewSelection(ctx context.Context, a *app, s *session.Session, name, from string) error {
	sel, err := choose.Selection(s, name, parcel.Selection{})
	if err != nil {
		return err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp(scratch, "preview-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "preview"+parcel.Suffix)
	result, err := export.Export(ctx, s, export.Request{Environment: from, Selection: sel, Aside: path})
	if err != nil {
		return withoutMissing(a, err, name)
	}
	p, err := parcel.Open(path)
	if err != nil {
		return err
	}
	defer p.Close()
	everything, err := record.ParsePattern("*")
	if err != nil {
		return err
	}
	t := text.Table{Columns: []string{"record", "title", "why"}}
	list := []wire.Previewed{}
	m := result.Manifest
	err = library.Records(ctx, p, []record.Pattern{everything}, func(r library.Record) error {
		why := r.Why
		if r.Through != "" {
			why += ", through " + r.Through
		}
		if a.JSON {
			list = append(list, wire.Previewed{Address: r.Address, Why: r.Why, Through: r.Through})
			return nil
		}
		t.Add(show.Harmless(r.Address), present.Shorten(titleOf(p, r), 30), show.Harmless(why))
		return nil
	})
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.Preview{Selection: name, Source: from, Records: list, Chosen: m.Chosen(),
			Along: m.Records() - m.Chosen()})
	}
	present.Printf(a.Out, "An export from %s would take %s: %d chosen and %d that come along.\n\n", from,
		present.Count(m.Records(), "record"),
		m.Chosen(), m.Records()-m.Chosen())
	a.PrintTable(t, "  ")
	present.Referred(a.Page, m)
	a.Next("anagram export", present.Arg(from), "--selection", present.Arg(name))
	return nil
}

// withoutMissing names the command that takes out of a kept selection what is not there.
func withoutMissing(a *app, err error, saved string) error {
	var missing *choose.NoRecordError
	if saved != "" && errors.As(err, &missing) {
		command := []any{"anagram selection remove", present.Arg(saved)}
		for _, pattern := range missing.Patterns {
			command = append(command, present.Arg(pattern))
		}
		a.Next(command...)
	}
	return err
}

// titleOf gives the title of a record in a parcel, "" where its type has none.
func titleOf(p *parcel.Reader, r library.Record) string {
	t, ok := p.Catalog.Type(r.Type.Name)
	if !ok {
		return ""
	}
	at := record.FieldAt(r.Type.Fields, t.Title)
	if at < 0 {
		return ""
	}
	if text := show.Show(p.Catalog, r.Type.Fields[at], r.Values[at]); text != nil {
		return show.Harmless(*text)
	}
	return ""
}

func selectionAddCommand(a *app) *cobra.Command {
	var fromDocket, fromParcel string
	var statuses, types []string
	cmd := &cobra.Command{
		Use:   "add NAME ADDRESS...",
		Short: "Add records to a selection, or begin one",
		Long: `Adds records to a selection of anagram.yaml, by their addresses or by patterns; a
selection that is not there is begun. With --docket or --parcel the patterns choose
among the findings of a docket, or the records of a parcel, and what fits is added by
its address.`,
		Example: "  anagram selection add new-panel panel/CARD 'panel_item/CARD/*'\n  anagram selection add new-panel --docket 7 --status new 'panel/*'\n  anagram selection add new-panel --parcel january 'assay/G*'",
		RunE: a.step(1, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			name, addresses := given[0], given[1:]
			var err error
			switch {
			case fromDocket != "" && fromParcel != "":
				return &session.UsageError{Message: "--docket and --parcel do not go together: the records come from one of them"}
			case fromDocket == "" && len(statuses)+len(types) > 0:
				return &session.UsageError{Message: "--status and --type go with --docket"}
			case fromDocket != "":
				addresses, err = addressesOfDocket(cmd.Context(), s, fromDocket, addresses, statuses, types)
			case fromParcel != "":
				addresses, err = addressesOfParcel(cmd.Context(), s, fromParcel, addresses)
			case len(addresses) == 0:
				return &session.UsageError{Message: "selection add needs the addresses of records, such as: anagram selection add " +
					string(present.Arg(name)) + " assay/GLU"}
			}
			if err != nil {
				return err
			}
			added, err := choose.Add(s, name, addresses)
			if err != nil {
				return err
			}
			return present.Added(a.Page, name, added, "added", "added to", "were in it already")
		}),
	}
	cmd.Flags().StringVar(&fromDocket, "docket", "", "add what fits among the findings of this docket")
	cmd.Flags().StringVar(&fromParcel, "parcel", "", "add what fits among the records of this parcel")
	cmd.Flags().StringSliceVar(&statuses, "status", nil, "with --docket: only findings of this status")
	cmd.Flags().StringSliceVar(&types, "type", nil, "with --docket: only findings of this record type")
	return cmd
}

func addressesOfDocket(ctx context.Context, s *session.Session, number string, patterns, statuses, types []string) ([]string,
	error) {
	d, err := s.OpenDocket(ctx, number)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	which := decide.Which{Patterns: patterns, Types: types}
	for _, word := range statuses {
		which.Statuses = append(which.Statuses, match.Status(word))
	}
	var out []string
	err = decide.Review(ctx, s, d, which, func(r decide.Reviewed) error {
		out = append(out, r.Address)
		return nil
	})
	if err == nil && len(out) == 0 {
		err = session.Usage("No finding of docket %d fits; nothing was added", d.Header.Number)
	}
	return out, err
}

func addressesOfParcel(ctx context.Context, s *session.Session, name string, patterns []string) ([]string, error) {
	if len(patterns) == 0 {
		return nil, session.Usage("--parcel needs patterns of records, such as 'assay/G*'")
	}
	p, err := library.Open(s, name)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	var parsed []record.Pattern
	for _, text := range patterns {
		pattern, err := record.ParsePattern(text)
		if err != nil {
			return nil, session.Usage("%v", err)
		}
		parsed = append(parsed, pattern)
	}
	var out []string
	err = library.Records(ctx, p, parsed, func(r library.Record) error {
		out = append(out, r.Address)
		return nil
	})
	if err == nil && len(out) == 0 {
		err = session.Usage("No record of parcel %s fits; nothing was added", library.NameOf(p))
	}
	return out, err
}

func selectionRemoveCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "remove NAME ADDRESS...",
		Short:   "Take records out of a selection",
		Example: "  anagram selection remove new-panel panel/CARD",
		RunE: a.step(2, -1, func(_ *cobra.Command, s *session.Session, given []string) error {
			removed, err := choose.Remove(s, given[0], given[1:])
			if err != nil {
				return err
			}
			return present.Added(a.Page, given[0], removed, "removed", "taken out of", "")
		}),
	}
}
