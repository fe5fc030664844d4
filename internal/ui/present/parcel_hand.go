package present

import (
	"context"
	"fmt"

	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/export"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Made says what a new parcel holds.
func Made(a *Page, result export.Result, verb string) error {
	m := result.Manifest
	if a.JSON {
		return a.PrintJSON(wire.Made{Parcel: m.Name, File: result.File, Records: m.Records(), Types: len(m.Types),
			Files: len(m.Files), Bytes: result.Bytes, Resealed: len(m.Resealed)})
	}
	Printf(a.Out, "%s\n\n", a.Wrap(fmt.Sprintf("%s parcel %s: %s of %s, each checked.", verb, m.Name, Count(m.Records(), "record"),
		Count(len(m.Types), "record type")), ""))
	TypeCounts(a, m)
	Referred(a, m)
	Printf(a.Out, "\n%s (%s)\n", result.File, Size(result.Bytes))
	a.Next("anagram match", Arg(m.Name), "--against ENVIRONMENT")
	return nil
}

// widest is how wide a cell of a shown table may be.
const widest = 28

// ParcelTable prints the records of a type, a row each, with the fields that fit.
func ParcelTable(ctx context.Context, a *Page, s *session.Session, given []string) error {
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
	fit, left := 0, a.Width()
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
	a.PrintTable(t, "")
	if rest := header[fit:]; len(rest) > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s did not fit: %s. --out FILE.csv writes all.", Count(len(rest), "field"),
			Some(rest, 6)), ""))
	}
	return nil
}
