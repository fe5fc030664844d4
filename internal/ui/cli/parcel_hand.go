package cli

import (
	"context"
	"fmt"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/byhand"
	"anagram/internal/flow/export"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

func (a *app) parcelResealCommand() *cobra.Command {
	var note string
	cmd := &cobra.Command{
		Use:   "reseal P --note TEXT",
		Short: "Check an edited parcel and seal it again",
		Long: `Checks every record of a parcel that was edited by hand (types, keys, references,
nothing twice) and seals it again in its place. In the folder form a type may be
given as records/TYPE.csv or records/TYPE.xlsx instead of records/TYPE.jsonl. Who
sealed it again, when and why stays visible wherever the parcel is used.`,
		Example: "  anagram parcel reseal month-end --note \"price of GLU corrected by hand\"",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			result, err := byhand.Reseal(cmd.Context(), s, given[0], note)
			if err != nil {
				return err
			}
			return a.printMade(result, "Sealed")
		}),
	}
	cmd.Flags().StringVar(&note, "note", "", "why the parcel was edited")
	return cmd
}

func (a *app) parcelMakeCommand() *cobra.Command {
	var r byhand.MakeRequest
	cmd := &cobra.Command{
		Use:   "make FOLDER --like ENV_OR_PARCEL",
		Short: "Make a parcel of records written by hand",
		Long: `Makes a parcel of a folder with records/TYPE.csv, .xlsx or .jsonl, after checking
every record. Which fields a record type has, and of what kind they are, is taken
from an environment or another parcel.`,
		Example: "  anagram parcel make new-units --like production",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			r.Folder = a.path(given[0])
			result, err := byhand.Make(cmd.Context(), s, r)
			if err != nil {
				return err
			}
			return a.printMade(result, "Made")
		}),
	}
	cmd.Flags().StringVar(&r.Like, "like", "", "the environment or parcel whose fields the records have")
	cmd.Flags().StringVar(&r.Name, "name", "", "name of the parcel (else that of the folder)")
	cmd.Flags().StringVar(&r.Note, "note", "", "a note for those who read the parcel later")
	return cmd
}

func (a *app) printMade(result export.Result, verb string) error {
	m := result.Manifest
	if a.json {
		return a.printJSON(map[string]any{"parcel": m.Name, "file": result.File, "records": m.Records(), "types": len(m.Types), "files": len(m.Files), "bytes": result.Bytes, "resealed": len(m.Resealed)})
	}
	printf(a.Out, "%s\n\n", a.wrap(fmt.Sprintf("%s parcel %s: %s of %s, each checked.", verb, m.Name, count(m.Records(), "record"), count(len(m.Types), "record type")), ""))
	printTypeCounts(a, m)
	printReferred(a, m)
	printf(a.Out, "\n%s (%s)\n", result.File, size(result.Bytes))
	a.next("anagram match", arg(m.Name), "--against ENVIRONMENT")
	return nil
}

func (a *app) parcelTableCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "table P TYPE [PATTERN...]",
		Short: "Show the records of one type as a table, or write them as CSV or a spreadsheet",
		Long: `Shows the records of one type as a table, with as many fields as fit. With --out all
of them are written whole, as a CSV file or a spreadsheet that can be edited.`,
		Example: "  anagram parcel table month-end unit\n  anagram parcel table month-end price_line --out prices.xlsx",
		RunE: a.step(2, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if out == "" {
				return a.showTable(cmd.Context(), s, given)
			}
			if len(given) > 2 {
				return &session.UsageError{Message: "--out writes all records of the type; leave the patterns out"}
			}
			n, err := byhand.WriteTable(cmd.Context(), s, given[0], given[1], a.path(out))
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"parcel": given[0], "type": given[1], "file": a.path(out), "records": n})
			}
			printf(a.Out, "Wrote %s of %s into %s.\n", count(n, "record"), given[1], out)
			return nil
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "the file to write, ending in .csv or .xlsx")
	return cmd
}

// widest is how wide a cell of a shown table may be.
const widest = 28

// showTable prints the records of a type, a row each, with the fields that fit.
func (a *app) showTable(ctx context.Context, s *session.Session, given []string) error {
	p, err := library.Open(s, given[0])
	if err != nil {
		return err
	}
	defer p.Close()
	texts := given[2:]
	if len(texts) == 0 {
		texts = []string{given[1] + "/*"}
	}
	var patterns []record.Pattern
	for _, text := range texts {
		pattern, err := record.ParsePattern(text)
		if err != nil {
			return &session.UsageError{Message: err.Error()}
		}
		patterns = append(patterns, pattern)
	}
	var rows [][]string
	header := []string{"record"}
	title := ""
	if t, ok := p.Catalog.Type(given[1]); ok {
		title = t.Title
	}
	err = library.Records(ctx, p, patterns, func(r library.Record) error {
		if r.Type.Name != given[1] {
			return nil
		}
		row, named := []string{r.Address}, []string{"record"}
		add := func(isTitle bool) {
			for i, f := range r.Type.Fields {
				if (f.Name == title) != isTitle {
					continue
				}
				text := ""
				if !r.Values[i].IsAbsent() && !r.Values[i].IsNull() {
					text = show.Readable(show.Show(p.Catalog, f, r.Values[i]))
				}
				row, named = append(row, ansi.Truncate(text, widest, "…")), append(named, f.Name)
			}
		}
		add(true) // the title beside the address
		add(false)
		header = named
		rows = append(rows, row)
		return nil
	})
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return &session.UsageError{Message: fmt.Sprintf("Parcel %s holds no records of %q that fit", given[0], given[1])}
	}
	fit, left := 0, a.width()
	for column := range header {
		width := len(header[column])
		for _, row := range rows {
			width = max(width, ansi.StringWidth(row[column]))
		}
		if left -= width + 2; left < -2 && column > 1 {
			break
		}
		fit = column + 1
	}
	t := text.Table{Columns: header[:fit]}
	for _, row := range rows {
		t.Add(row[:fit]...)
	}
	a.printTable(t, "")
	if rest := header[fit:]; len(rest) > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s did not fit: %s. --out FILE.csv writes all.", count(len(rest), "field"), some(rest, 6)), ""))
	}
	return nil
}
