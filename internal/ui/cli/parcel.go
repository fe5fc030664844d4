package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/ui/text"
)

func (a *app) parcelCommand() *cobra.Command {
	list := a.parcelListCommand()
	p := &cobra.Command{Use: "parcel", Short: "Look into the library of parcels", Example: "  anagram parcel\n  anagram parcel show monday", RunE: a.orList(list)}
	p.AddCommand(list, a.parcelShowCommand(), a.parcelVerifyCommand(), a.parcelAgainCommand(), a.parcelRenameCommand(), a.parcelRemoveCommand(),
		a.parcelTableCommand(), a.parcelResealCommand(), a.parcelMakeCommand())
	return p
}

func (a *app) parcelListCommand() *cobra.Command {
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
			if a.json {
				list := []map[string]any{}
				for _, e := range entries {
					entry := map[string]any{"parcel": e.Name, "file": e.File}
					if e.Err != nil {
						entry["error"] = e.Err.Error()
					} else {
						entry["source"], entry["exported_at"], entry["exported_by"] = e.Manifest.Source, e.Manifest.ExportedAt, e.Manifest.ExportedBy
						if ask {
							if c, ok := sourceMoved(cmd.Context(), s, e); ok {
								entry["source_moved"] = c.Message
							}
						}
						entry["note"], entry["records"], entry["bytes"] = e.Manifest.Note, e.Manifest.Records(), e.Bytes
					}
					list = append(list, entry)
				}
				return a.printJSON(map[string]any{"parcels": list})
			}
			if len(entries) == 0 {
				fmt.Fprintln(a.Out, "The library is empty.")
				a.next("anagram export ENVIRONMENT")
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
				t.Add(e.Name, m.Source, when(m.ExportedAt), m.ExportedBy, fmt.Sprint(m.Records()), size(e.Bytes), m.Note)
				if !ask {
					continue
				}
				if c, ok := sourceMoved(cmd.Context(), s, e); ok {
					notes = append(notes, fmt.Sprintf("%s: %s", c.Code, c.Message))
				}
			}
			a.printTable(t, "")
			for _, note := range notes {
				fmt.Fprintln(a.Out, a.wrap(note, "  "))
			}
			for _, text := range broken {
				fmt.Fprintln(a.Out, a.wrap(text, "  "))
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&ask, "ask-sources", false, "ask the sources that can be reached what changed there since")
	return cmd
}

func (a *app) parcelShowCommand() *cobra.Command {
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
				return a.showParcel(p, moved, reached)
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
				return a.showRecord(p, r)
			})
			if err == nil && found == 0 {
				return &session.UsageError{Message: fmt.Sprintf("No record in parcel %s fits %s", p.Manifest.Name, strings.Join(given[1:], ", "))}
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&ask, "ask-sources", false, "ask the source, if it can be reached, what changed there since")
	return cmd
}

func (a *app) showParcel(p *parcel.Reader, moved []check.Moved, reached bool) error {
	m := p.Manifest
	if a.json {
		return a.printJSON(m)
	}
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%-11s%s", name, text), "           "))
		}
	}
	line("parcel", m.Name)
	line("note", m.Note)
	line("source", m.Source)
	made := "exported"
	if m.Origin != "" {
		made = "by hand"
	}
	line(made, when(m.ExportedAt)+" by "+m.ExportedBy)
	for _, r := range m.Resealed {
		line("edited", when(r.At)+" by "+r.By+": "+r.Note)
	}
	line("selection", choose.SelectionWords(m.Selection))
	if c, ok := check.Source(m.Name, m.Source, moved); ok {
		line("now", c.Message+" "+c.Mend)
	} else if reached {
		line("now", "nothing in its scope has a later stamp in "+m.Source)
	}
	line("seal", strings.TrimPrefix(m.Seal, "sha256:"))
	fmt.Fprintln(a.Out)
	printTypeCounts(a, m)
	printReferred(a, m)
	if len(m.Files) > 0 {
		printf(a.Out, "\n%s\n", count(len(m.Files), "attachment"))
	}
	return nil
}

func (a *app) showRecord(p *parcel.Reader, r library.Record) error {
	if a.json {
		line := record.AppendLine(nil, r.Type.Fields, r.Record)
		return a.printJSON(map[string]any{"address": r.Address, "type": r.Type.Name, "record": json.RawMessage(line)})
	}
	out := a.out()
	why := ""
	switch r.Why {
	case parcel.WhyAlong:
		why = "  came along: " + r.Through
	case parcel.WhyOwner:
		why = "  came along: owner of " + r.Through
	}
	fmt.Fprintln(out, strong.Render(r.Address)+why)
	width := 0
	for _, f := range r.Type.Fields {
		width = max(width, len(f.Name))
	}
	for i, f := range r.Type.Fields {
		if r.Values[i].IsAbsent() {
			continue
		}
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("  %-*s  %s", width, f.Name, show.Readable(show.Show(p.Catalog, f, r.Values[i]))), strings.Repeat(" ", width+2)))
	}
	return nil
}

func (a *app) parcelVerifyCommand() *cobra.Command {
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
			if a.json {
				return a.printJSON(map[string]any{"parcel": p.Manifest.Name, "whole": true, "records": records, "files": len(p.Manifest.Files)})
			}
			printf(a.Out, "Parcel %s is whole: %s, %s, every byte as sealed.\n", p.Manifest.Name, count(records, "record"), count(len(p.Manifest.Files), "attachment"))
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
