package sheet

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/xuri/excelize/v2"
)

// A sheet may have tables (ECMA-376 Part 1, 18.5.1.2): ranges whose first row names the columns,
// and which may end in rows that sum the others up.

// tableRange is one of them.
type tableRange struct {
	part         string // of the package
	name         string
	columns      [2]int
	first, last  int // rows, that of the names and those of totals included
	rowsOfTotals int
}

// tables reads those of a sheet.
func (b *Book) tables(title string) (out []tableRange, err error) {
	tables, err := b.file.GetTables(title)
	if err != nil {
		return nil, err
	}
	for _, table := range tables {
		b.file.Pkg.Range(func(part, content any) bool {
			var t struct {
				Name   string `xml:"name,attr"`
				Ref    string `xml:"ref,attr"`
				Totals int    `xml:"totalsRowCount,attr"`
			}
			text, ok := content.([]byte)
			name, isName := part.(string)
			if !ok || !isName || !strings.HasPrefix(name, "xl/tables/") || xml.Unmarshal(text, &t) != nil || t.Name != table.Name {
				return true
			}
			one := tableRange{part: name, name: t.Name, rowsOfTotals: t.Totals}
			from, to, _ := strings.Cut(t.Ref, ":")
			if one.columns[0], one.first, err = excelize.CellNameToCoordinates(from); err == nil {
				one.columns[1], one.last, err = excelize.CellNameToCoordinates(to)
			}
			out = append(out, one)
			return false
		})
		if err != nil {
			return nil, fmt.Errorf("table %s: %w", table.Name, err)
		}
	}
	return out, nil
}

// Totals gives the rows of a sheet that sum others up and are none themselves.
func (b *Book) Totals(title string) (map[int]bool, error) {
	tables, err := b.tables(title)
	out := map[int]bool{}
	for _, t := range tables {
		for n := range t.rowsOfTotals {
			out[t.last-n] = true
		}
	}
	return out, err
}

// Extend lets the tables of a sheet that ended at a row end at another one below, as rows were
// added there. One that ends in totals is an error: they would have to move.
func (b *Book) Extend(title string, from, to int) error {
	tables, err := b.tables(title)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if t.rowsOfTotals > 0 {
			return fmt.Errorf("table %s of sheet %s ends in a row of totals, which adding and removing rows would move. Turn the totals off there and try again", t.name, title)
		}
		if t.last != from || to <= from {
			continue
		}
		content, _ := b.file.Pkg.Load(t.part)
		text, _ := content.([]byte)
		if text, err = extended(text, t, to); err != nil {
			return fmt.Errorf("table %s: %w", t.name, err)
		}
		b.file.Pkg.Store(t.part, text)
	}
	return nil
}

// extended writes the range of a table anew, and that of its filter.
func extended(text []byte, t tableRange, to int) ([]byte, error) {
	name := func(column, row int) string {
		out, _ := excelize.CoordinatesToCellName(column, row)
		return out
	}
	was := fmt.Sprintf(`ref="%s:%s"`, name(t.columns[0], t.first), name(t.columns[1], t.last))
	is := fmt.Sprintf(`ref="%s:%s"`, name(t.columns[0], t.first), name(t.columns[1], to))
	in := xml.NewDecoder(bytes.NewReader(text))
	var out []byte
	done := 0
	for {
		begin := int(in.InputOffset())
		token, err := in.Token()
		if errors.Is(err, io.EOF) {
			return append(out, text[done:]...), nil
		}
		if err != nil {
			return nil, err
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "table" && start.Name.Local != "autoFilter" {
			continue
		}
		end := int(in.InputOffset())
		out = append(append(out, text[done:begin]...), strings.Replace(string(text[begin:end]), was, is, 1)...)
		done = end
	}
}
