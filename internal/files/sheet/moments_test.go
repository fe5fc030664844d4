package sheet

import (
	"bytes"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"anagram/internal/core/record"
)

// Every day that a cell for dates holds is kept under the number that the standard says, and
// read as itself.
func TestEveryDayComesBack(t *testing.T) {
	for _, from1904 := range []bool{false, true} {
		first, last := dateRange(from1904)
		day, err := time.Parse(time.DateOnly, first)
		require.NoError(t, err)
		end, err := time.Parse(time.DateOnly, last)
		require.NoError(t, err)
		n := 0
		for ; !day.After(end); day = day.AddDate(0, 0, 1) {
			if n++; n > 100_000 && n%97 != 0 && day.AddDate(0, 0, 100).Before(end) {
				continue
			}
			text := day.Format(time.DateOnly)
			raw, ok := numberOf(asDate, from1904, text)
			require.True(t, ok, text)
			number := n - 1 + map[bool]int{false: 61}[from1904]
			back, ok := momentOf(asDate, from1904, float64(number))
			if !ok || raw != strconv.Itoa(number) || back != text {
				require.Fail(t, text, "%s is told as %s", raw, back)
			}
		}
		assert.Equal(t, map[bool]int{false: 2958465 - 61 + 1, true: 2957003 + 1}[from1904], n, "as the standard numbers them")
	}
}

func TestMomentsThatACellHolds(t *testing.T) {
	for _, c := range []struct {
		as       shown
		text     string
		from1904 bool
		raw      string // "" where it is held as a text
	}{
		{as: asDate, text: "9999-12-31", raw: "2958465"},
		{as: asDate, text: "9999-12-31", from1904: true, raw: "2957003"},
		{as: asDate, text: "2192-04-10", raw: "106753"},
		{as: asDate, text: "1900-03-01", raw: "61"},
		{as: asDate, text: "1900-02-28"},
		{as: asDate, text: "1904-01-01", from1904: true, raw: "0"},
		{as: asDate, text: "1903-12-31", from1904: true},
		{as: asDate, text: "0001-01-01"},
		{as: asDate, text: "2026-1-2"},
		{as: asDate, text: "n/a"},
		{as: asTime, text: "12:00:00", raw: "0.5"},
		{as: asTime, text: "00:00:00", raw: "0"},
		{as: asTime, text: "23:59:59.999", raw: "0.999999988425926"},
		{as: asTime, text: "23:59:59.9999"},
		{as: asDateTime, text: "2026-11-25 06:00:00", raw: "46351.25"},
		{as: asDateTime, text: "2026-11-25T06:00:00"},
		{as: asDateTime, text: "9999-12-31 23:59:59.999", raw: "2958465.9999999884"},
	} {
		raw, ok := numberOf(c.as, c.from1904, c.text)
		if assert.Equal(t, c.raw != "", ok, c.text) && ok {
			assert.Equal(t, c.raw, raw, c.text)
		}
	}
	for _, number := range []float64{-1, 0, 1, 59, 60, 2958466, 1e300} {
		_, ok := momentOf(asDate, false, number)
		assert.False(t, ok, "%v means no day that all programs agree on", number)
	}
	for range 20000 {
		number := 61 + rand.Float64()*(2958465-61)
		text, ok := momentOf(asDateTime, false, number)
		require.True(t, ok)
		raw, ok := numberOf(asDateTime, false, text)
		require.True(t, ok, "%v %s %s", number, text, raw)
	}
}

// saved writes a workbook and opens it anew.
func saved(t *testing.T, book *Book) *Book {
	t.Helper()
	var text bytes.Buffer
	_, err := book.WriteTo(&text)
	require.NoError(t, err)
	out, err := OpenBook(&text)
	require.NoError(t, err)
	t.Cleanup(func() { _ = out.Close() })
	return out
}

// oddTexts are texts that workbooks, or programs that read them, are known to alter.
var oddTexts = []string{"_x000D_", "a_x000D_b", "_x005F_", "_xD83D_", "_x0041_x0042_", "_x000d_x0041_x005F_", "__x0041_",
	"_x0041", "a\tb", " a ", "a\nb", "'a", "=1", "1e5", "0012", "-0", "1.50", "true", "TRUE", "2026-01-02", "#N/A", "a b", "𝔘😀",
	strings.Repeat("x", MaxCell), strings.Repeat("😀", MaxCell/2), "<a>&amp;\"'", "a\u2028b", "\ufeff", "٣"}

func TestOddTextsAreSetAndReadBack(t *testing.T) {
	f := excelize.NewFile()
	var text bytes.Buffer
	_, err := f.WriteTo(&text)
	require.NoError(t, err)
	book, err := OpenBook(&text)
	require.NoError(t, err)
	at := func(n int) string {
		at, err := excelize.CoordinatesToCellName(1, n+2)
		require.NoError(t, err)
		return at
	}
	for n, odd := range oddTexts {
		require.NoError(t, book.Set("Sheet1", at(n), odd, Form{}))
	}
	book = saved(t, book)
	for n, odd := range oddTexts {
		got, err := book.Cell("Sheet1", at(n))
		require.NoError(t, err)
		assert.True(t, odd == got, "%.40q", odd)
	}
	// Beside _x000D_ the package would take this one for it.
	alone := saved(t, &Book{file: excelize.NewFile()})
	require.NoError(t, alone.Set("Sheet1", "A1", "_x005F_x000D_", Form{}))
	got, err := saved(t, alone).Cell("Sheet1", "A1")
	require.NoError(t, err)
	assert.Equal(t, "_x005F_x000D_", got)
	assert.ErrorContains(t, book.Set("Sheet1", "A1", strings.Repeat("x", MaxCell+1), Form{}),
		"cell A1 of sheet Sheet1 would have 32768 characters, and 32767 fit")
	assert.ErrorContains(t, book.Set("Sheet1", "A1", strings.Repeat("😀", MaxCell/2+1), Form{}), "would have 32768 characters")
}

// What is new in a column is kept as the others are, where it can be.
func TestNewCellsAreLikeTheOthersOfTheirColumn(t *testing.T) {
	f := excelize.NewFile()
	day := time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)
	date, err := f.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	for row, cells := range [][]any{{"day", "price", "active", "code", "mixed"}, {day, 2.5, true, "A", 1}, {day, 3, false, "B", "x"}} {
		at, err := excelize.CoordinatesToCellName(1, row+1)
		require.NoError(t, err)
		require.NoError(t, f.SetSheetRow("Sheet1", at, &cells))
	}
	require.NoError(t, f.SetCellStyle("Sheet1", "A2", "A3", date))
	book := saved(t, &Book{file: f})
	require.NoError(t, book.Rows("Sheet1", func(int, []string) error { return nil }))
	forms := book.Forms("Sheet1")
	require.Len(t, forms, 5)
	assert.True(t, forms[0].Dates() && forms[1].Numbers() && forms[2].Booleans())
	for i, row := range [][]string{{"9999-12-31", "12.25", "true", "7", "8"}, {"1850-01-01", "0012", "1", "C", "x"}} {
		for column, text := range row {
			at, err := excelize.CoordinatesToCellName(column+1, i+4)
			require.NoError(t, err)
			require.NoError(t, book.Set("Sheet1", at, text, forms[column]))
		}
	}
	book = saved(t, book)
	kinds := func(row string) (out []excelize.CellType) {
		for _, column := range "ABCDE" {
			kind, err := book.file.GetCellType("Sheet1", string(column)+row)
			require.NoError(t, err)
			out = append(out, kind)
		}
		return out
	}
	text := excelize.CellTypeSharedString
	assert.Equal(t, []excelize.CellType{excelize.CellTypeUnset, excelize.CellTypeUnset, excelize.CellTypeBool, text, text}, kinds("4"))
	assert.Equal(t, []excelize.CellType{text, text, text, text, text}, kinds("5"), "what a cell of that kind cannot hold is a text")
	got := map[int][]string{}
	require.NoError(t, book.Rows("Sheet1", func(n int, cells []string) error {
		got[n] = cells
		return nil
	}))
	assert.Equal(t, []string{"9999-12-31", "12.25", "true", "7", "8"}, got[4])
	assert.Equal(t, []string{"1850-01-01", "0012", "1", "C", "x"}, got[5])
}

// Tables of our own are read back whatever their texts look like.
func TestOddTextsComeBackFromAWorkbookOfOurs(t *testing.T) {
	table := layout(t)
	var text bytes.Buffer
	w, err := NewXLSX(&text, "odd")
	require.NoError(t, err)
	require.NoError(t, w.Row([]string{"name"}))
	var want []string
	for _, odd := range oddTexts {
		cell := table.cell(textValue(t, odd))
		require.NoError(t, w.Row([]string{cell}))
		want = append(want, odd)
	}
	require.NoError(t, w.Close())
	var got []string
	require.NoError(t, ReadXLSX(&text, func(n int, cells []string) error {
		if n == 1 {
			return nil
		}
		plain, err := Text(cells[0])
		require.NoError(t, err)
		got = append(got, *plain)
		return nil
	}))
	for i := range want {
		assert.True(t, want[i] == got[i], "%.40q", want[i])
	}
}

func textValue(t *testing.T, text string) record.Value {
	t.Helper()
	v, err := record.TextValue(text)
	require.NoError(t, err)
	return v
}
