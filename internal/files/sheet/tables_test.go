package sheet

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"anagram/internal/core/record"
)

// withTable is a workbook whose sheet is a table of two rows.
func withTable(t *testing.T) *Book {
	t.Helper()
	f := excelize.NewFile()
	for i, row := range [][]any{{"code", "price"}, {"A", 1}, {"B", 2}} {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		require.NoError(t, err)
		require.NoError(t, f.SetSheetRow("Sheet1", at, &row))
	}
	require.NoError(t, f.AddTable("Sheet1", &excelize.Table{Range: "A1:B3", Name: "things"}))
	return saved(t, &Book{file: f})
}

// ranges gives the ranges of the tables, as the package reads them anew.
func ranges(t *testing.T, b *Book) (out []string) {
	t.Helper()
	tables, err := saved(t, b).file.GetTables("Sheet1")
	require.NoError(t, err)
	for _, table := range tables {
		out = append(out, table.Range)
	}
	return out
}

func TestATableTakesInTheRowsBelowIt(t *testing.T) {
	book := withTable(t)
	totals, err := book.Totals("Sheet1")
	require.NoError(t, err)
	assert.Empty(t, totals)
	require.NoError(t, book.Extend("Sheet1", 3, 5))
	assert.Equal(t, []string{"A1:B5"}, ranges(t, book))
	require.NoError(t, book.Extend("Sheet1", 9, 12), "what does not touch it")
	require.NoError(t, book.Extend("Sheet1", 0, 0))
	assert.Equal(t, []string{"A1:B5"}, ranges(t, book))
	content, _ := book.file.Pkg.Load("xl/tables/table1.xml")
	assert.Contains(t, string(content.([]byte)), `<autoFilter ref="A1:B5"`, "its filter as well")
	require.NoError(t, book.Remove("Sheet1", 3))
	assert.Equal(t, []string{"A1:B4"}, ranges(t, book))
}

func TestATableThatEndsInTotalsIsLeftAlone(t *testing.T) {
	book := withTable(t)
	content, _ := book.file.Pkg.Load("xl/tables/table1.xml")
	book.file.Pkg.Store("xl/tables/table1.xml", []byte(strings.Replace(string(content.([]byte)), `ref="A1:B3"`, `ref="A1:B3" totalsRowCount="1"`, 1)))
	totals, err := book.Totals("Sheet1")
	require.NoError(t, err)
	assert.Equal(t, map[int]bool{3: true}, totals)
	assert.ErrorContains(t, book.Extend("Sheet1", 3, 4), "table things of sheet Sheet1 ends in a row of totals")
	book.file.Pkg.Store("xl/tables/table1.xml", []byte(`<table name="things" ref="nowhere"/>`))
	_, err = book.Totals("Sheet1")
	require.Error(t, err)
	_, err = book.Totals("none")
	require.Error(t, err)
}

func TestWhatATableOfOursHolds(t *testing.T) {
	table := layout(t)
	json, err := record.Parse(record.JSON, `{"a":"_x0041_"}`)
	require.NoError(t, err)
	for cell, v := range map[string]record.Value{
		`{"a":"\u005fx0041\u005f"}`: json,
		`"\u005fx000D\u005f"`:       textValue(t, "_x000D_"),
		"_x1":                       textValue(t, "_x1"),
		"":                          record.NullValue(),
	} {
		assert.Equal(t, cell, table.cell(v))
	}
	assert.Equal(t, "%3Da/1", Address("=a/1"))
	assert.Equal(t, `"=1"`, Shown("=1"))
	assert.Equal(t, "-12.5", Shown("-12.5"))
	assert.Len(t, []rune(Shown(strings.Repeat("x", 5000))), 4001)
	var out bytes.Buffer
	w, err := NewXLSX(&out, strings.Repeat("long", 10))
	require.NoError(t, err)
	assert.ErrorContains(t, w.Row([]string{strings.Repeat("😀", MaxCell/2+1)}), "a value of 32768 characters does not fit")
	require.NoError(t, w.Close())
	csv := NewCSV(&out)
	assert.ErrorContains(t, csv.Row([]string{""}), "one empty cell")
	require.NoError(t, csv.Row([]string{"a", ""}))
	require.NoError(t, csv.Close())
	assert.Equal(t, [2]string{"1900-03-01", "9999-12-31"}, withTable(t).Days())
	assert.Equal(t, [2]string{"1904-01-01", "9999-12-31"}, (&Book{from1904: true}).Days())
	assert.ErrorContains(t, (&RowError{Row: 7, Cause: assert.AnError}).Unwrap(), assert.AnError.Error())
	rec := record.Record{Key: record.NewKey([]record.Value{textValue(t, "A")}, nil)}
	for range table.Fields {
		rec.Values = append(rec.Values, record.UnreadableValue("odd"))
	}
	_, err = table.Row(rec)
	assert.ErrorContains(t, err, "cannot be read (odd), which a table cannot say")
}
