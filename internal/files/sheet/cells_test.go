package sheet

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

func TestCellsAreReadAsThePersonSeesThem(t *testing.T) {
	f := excelize.NewFile()
	style := func(number int, custom string) int {
		s := &excelize.Style{NumFmt: number}
		if custom != "" {
			s.CustomNumFmt = &custom
		}
		id, err := f.NewStyle(s)
		require.NoError(t, err)
		return id
	}
	for i, c := range []struct {
		value any
		raw   string // put there as it is, as other programs write it
		style int
		want  string
	}{
		{raw: "1.1000000000000001", want: "1.1"},
		{raw: "0.30000000000000004", want: "0.3"},
		{raw: "2.9999999999999999E-2", want: "0.03"},
		{raw: "12345678901234567", want: "12345678901234567"},
		{value: 42, want: "42"},
		{value: "1.1000000000000001", want: "1.1000000000000001"},
		{value: "0012", want: "0012"},
		{value: true, want: "true"},
		{value: false, want: "false"},
		{value: time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC), style: style(14, ""), want: "2026-11-25"},
		{value: time.Date(2026, 11, 25, 14, 30, 0, 0, time.UTC), style: style(22, ""), want: "2026-11-25 14:30:00"},
		{raw: "0.5", style: style(21, ""), want: "12:00:00"},
		{raw: "46351", style: style(0, `dd"."mm"."yyyy`), want: "2026-11-25"},
		{raw: "46351.25", style: style(0, "yyyy-mm-dd hh:mm"), want: "2026-11-25 06:00:00"},
		{raw: "3", style: style(0, `0" days"`), want: "3"},
		{raw: "0.25", style: style(10, ""), want: "0.25"},
	} {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		require.NoError(t, err)
		if c.raw != "" {
			require.NoError(t, f.SetCellDefault("Sheet1", at, c.raw))
		} else {
			require.NoError(t, f.SetCellValue("Sheet1", at, c.value))
		}
		if c.style != 0 {
			require.NoError(t, f.SetCellStyle("Sheet1", at, at, c.style))
		}
		defer func(row int, want string) {
			var text bytes.Buffer
			_, err := f.WriteTo(&text)
			require.NoError(t, err)
			book, err := OpenBook(&text)
			require.NoError(t, err)
			defer book.Close()
			require.NoError(t, book.Rows("Sheet1", func(n int, cells []string) error {
				if n == row {
					assert.Equal(t, []string{want}, cells, "row %d", n)
				}
				return nil
			}))
			// What is set is read back, and another value of its kind stays of that kind.
			require.NoError(t, book.Set("Sheet1", at, want, Form{}))
			again, err := book.Cell("Sheet1", at)
			require.NoError(t, err)
			assert.Equal(t, want, again)
		}(i+1, c.want)
	}
}

// A formula would make its own value again, whatever is written over it.
func TestAFormulaIsNotOverwritten(t *testing.T) {
	f := excelize.NewFile()
	require.NoError(t, f.SetCellValue("Sheet1", "A1", 2))
	require.NoError(t, f.SetCellFormula("Sheet1", "B1", "A1*2"))
	var text bytes.Buffer
	_, err := f.WriteTo(&text)
	require.NoError(t, err)
	book, err := OpenBook(&text)
	require.NoError(t, err)
	defer book.Close()
	assert.ErrorContains(t, book.Set("Sheet1", "B1", "5", Form{}), "cell B1 of sheet Sheet1 holds a formula")
	assert.NoError(t, book.Set("Sheet1", "A1", "5", Form{}))
	// Some programs save a boolean as a formula, which says nothing else.
	require.NoError(t, book.file.SetCellBool("Sheet1", "C1", true))
	require.NoError(t, book.file.SetCellFormula("Sheet1", "C1", "TRUE()"))
	require.NoError(t, book.Set("Sheet1", "C1", "false", Form{as: asBoolean}))
	again, err := book.Cell("Sheet1", "C1")
	require.NoError(t, err)
	assert.Equal(t, "false", again)
	formula, err := book.file.GetCellFormula("Sheet1", "C1")
	require.NoError(t, err)
	assert.Empty(t, formula)
}

// endless is a file whose first cell never ends.
type endless struct{ began bool }

func (e *endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	if !e.began {
		p[0], e.began = '"', true
	}
	return len(p), nil
}

func TestARowThatNeverEnds(t *testing.T) {
	err := ReadCSV(&endless{}, func(int, []string) error { return nil })
	assert.ErrorContains(t, err, "a row has more than 16 MiB")
	long := strings.Repeat("x", 5<<20)
	n := 0
	require.NoError(t, ReadCSV(strings.NewReader(strings.Repeat(long+",a\n", 5)), func(_ int, cells []string) error {
		n += len(cells[0])
		return nil
	}))
	assert.Equal(t, 25<<20, n, "rows may be long, each for itself")
}
