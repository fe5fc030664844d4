package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

func parcelCommand(a *app) *cobra.Command {
	list := parcelListCommand(a)
	p := &cobra.Command{Use: "parcel", Short: "Look into the library of parcels",
		Example: "  anagram parcel\n  anagram parcel show monday", RunE: orList(a, list)}
	p.AddCommand(list, parcelShowCommand(a), parcelVerifyCommand(a), parcelAgainCommand(a), parcelRenameCommand(a),
		parcelRemoveCommand(a),
		parcelTableCommand(a), parcelResealCommand(a), parcelMakeCommand(a))
	return p
}

func parcelListCommand(a *app) *cobra.Command {
	var ask bool
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "List the parcels of the library, newest first",
		Example: "  anagram parcel list\n  anagram parcel list --json",
		RunE: a.step(0, 0, func(cmd *cobra.Command, s *session.Session, _ []string) error {
			entries, err := library.List(s)
			if err != nil {
				return err
			}
			if a.JSON {
				list := wire.Parcels{Parcels: []wire.Parcel{}}
				for _, e := range entries {
					entry := wire.Parcel{Parcel: e.Name, File: e.File}
					if e.Err != nil {
						entry.Error = e.Err.Error()
					} else {
						m := e.Manifest
						entry.Known = &wire.Known{Source: m.Source, ExportedAt: m.ExportedAt, ExportedBy: m.ExportedBy, Note: m.Note,
							Records: m.Records(), Bytes: e.Bytes}
						if c, ok := sourceMoved(cmd.Context(), s, e); ask && ok {
							entry.SourceMoved = c.Message
						}
					}
					list.Parcels = append(list.Parcels, entry)
				}
				return a.PrintJSON(list)
			}
			if len(entries) == 0 {
				fmt.Fprintln(a.Out, "The library is empty.")
				a.Next("anagram export ENVIRONMENT")
				return nil
			}
			t := text.Table{Columns: []string{"parcel", "source", "=exported", "by", ">records", ">size", "note"}}
			var notes []string
			var broken []string
			for _, e := range entries {
				if e.Err != nil {
					broken = append(broken, e.Err.Error())
					t.Add(e.Name, "cannot be read")
					continue
				}
				m := e.Manifest
				t.Add(e.Name, m.Source, present.When(m.ExportedAt), m.ExportedBy, fmt.Sprint(m.Records()), present.Size(e.Bytes), m.Note)
				if !ask {
					continue
				}
				if c, ok := sourceMoved(cmd.Context(), s, e); ok {
					notes = append(notes, fmt.Sprintf("%s: %s", c.Code, c.Message))
				}
			}
			a.PrintTable(t, "")
			for _, note := range notes {
				fmt.Fprintln(a.Out, a.Wrap(note, "  "))
			}
			for _, text := range broken {
				fmt.Fprintln(a.Out, a.Wrap(text, "  "))
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&ask, "ask-sources", false, "ask the sources that can be reached what changed there since")
	return cmd
}

func parcelShowCommand(a *app) *cobra.Command {
	var ask bool
	cmd := &cobra.Command{
		Use:     "show P [PATTERN...]",
		Short:   "Show what a parcel is, or records in it",
		Example: "  anagram parcel show january\n  anagram parcel show january 'assay_range/GLU/*'",
		RunE: a.step(1, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			p, err := library.Open(s, given[0])
			if err != nil {
				return err
			}
			defer p.Close()
			if len(given) == 1 {
				var moved []check.Moved
				reached := false
				if ask {
					moved, reached = library.SourceMoved(cmd.Context(), s, p)
				}
				return present.Parcel(a.Page, p, moved, reached)
			}
			var patterns []record.Pattern
			for _, text := range given[1:] {
				pattern, err := record.ParsePattern(text)
				if err != nil {
					return &session.UsageError{Message: err.Error()}
				}
				patterns = append(patterns, pattern)
			}
			found := 0
			err = library.Records(cmd.Context(), p, patterns, func(r library.Record) error {
				found++
				return present.Record(a.Page, p, r)
			})
			if err == nil && found == 0 {
				return &session.UsageError{Message: fmt.Sprintf("No record in parcel %s fits %s", p.Manifest.Name,
					strings.Join(given[1:], ", "))}
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&ask, "ask-sources", false, "ask the source, if it can be reached, what changed there since")
	return cmd
}

func parcelVerifyCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "verify P",
		Short:   "Check that a parcel's bytes are what was exported",
		Example: "  anagram parcel verify monday",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			p, err := library.Open(s, given[0])
			if err != nil {
				return err
			}
			defer p.Close()
			if err := p.Verify(cmd.Context()); err != nil {
				return err
			}
			// The bytes are right; whether they are records is seen by reading them.
			records := 0
			everything, _ := record.ParsePattern("*")
			err = library.Records(cmd.Context(), p, []record.Pattern{everything}, func(library.Record) error { records++; return nil })
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Verified{Parcel: p.Manifest.Name, Whole: true, Records: records, Files: len(p.Manifest.Files)})
			}
			present.Printf(a.Out, "Parcel %s is whole: %s, %s, every byte as sealed.\n", p.Manifest.Name, present.Count(records, "record"),
				present.Count(len(p.Manifest.Files), "attachment"))
			return nil
		}),
	}
}

// sourceMoved asks a parcel's source what changed there since the export.
func sourceMoved(ctx context.Context, s *session.Session, e library.Entry) (check.Check, bool) {
	p, err := library.Open(s, e.File)
	if err != nil {
		return check.Check{}, false
	}
	defer p.Close()
	moved, _ := library.SourceMoved(ctx, s, p)
	return check.Source(e.Name, e.Manifest.Source, moved)
}
