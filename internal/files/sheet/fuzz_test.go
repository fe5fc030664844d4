package sheet

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// readBack reads a file as a table; each record that it holds can be written, and reads as
// the same again.
func readBack(t *testing.T, table Table, in io.Reader, read func(io.Reader, func(int, []string) error) error) {
	t.Helper()
	var r *Reader
	var records []record.Record
	_ = read(in, func(_ int, cells []string) (err error) {
		if r == nil {
			r, err = NewReader(table, cells)
			return err
		}
		rec, err := r.Record(cells)
		if err == nil {
			records = append(records, rec)
		}
		return err
	})
	for _, rec := range records {
		row, err := table.Row(rec)
		if err != nil {
			require.ErrorContains(t, err, "", "a record that leaves fields out has no row")
			continue
		}
		for _, cell := range row {
			require.False(t, cell != "" && strings.ContainsAny(cell[:1], "=+@"), "a spreadsheet would calculate %q", cell)
		}
		again, err := NewReader(table, table.Header())
		require.NoError(t, err)
		back, err := again.Record(row)
		require.NoError(t, err, "%q", row)
		require.Equal(t, string(record.AppendLine(nil, table.Fields, rec)), string(record.AppendLine(nil, table.Fields, back)))
	}
}

// seeds gives the sample as the bytes of a real file.
func seeds(f *testing.F, table Table, form func(io.Writer) (Writer, error)) []byte {
	f.Helper()
	var out bytes.Buffer
	w, err := form(&out)
	require.NoError(f, err)
	require.NoError(f, w.Row(table.Header()))
	for _, line := range sample {
		rec, err := record.ParseLine([]byte(line), "assay", table.Fields, table.Shapes)
		require.NoError(f, err)
		row, err := table.Row(rec)
		require.NoError(f, err)
		require.NoError(f, w.Row(row))
	}
	require.NoError(f, w.Close())
	return out.Bytes()
}

func FuzzCSV(f *testing.F) {
	table := layout(f)
	f.Add(string(seeds(f, table, func(out io.Writer) (Writer, error) { return NewCSV(out), nil })))
	f.Add("dep,code,name,price\n,A,\"\"\"x\"\"\",1.50\nCORE/CHEM,B,=1,\n")
	f.Add("code,dep,about,formula\nA,~,unit/x,\"{\"\"woven\"\":[]}\"\n")
	f.Add("dep,code,unit,about,name,price,rule,sheet,formula,on\n%3D1,A,=1+1,unit/@x,,,,,,\n,\"\"\"=x\"\"\",-x,,,,,,,\n")
	f.Add("dep,code,name,price,unit,about,rule,sheet,formula,on\n,A,=1,,,,,,,\n,B,,x,,,,,,\n")
	f.Fuzz(func(t *testing.T, text string) { readBack(t, table, strings.NewReader(text), ReadCSV) })
}

func FuzzXLSX(f *testing.F) {
	table := layout(f)
	f.Add(seeds(f, table, func(out io.Writer) (Writer, error) { return NewXLSX(out, "assay") }))
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, data []byte) { readBack(t, table, bytes.NewReader(data), ReadXLSX) })
}

// FuzzCell holds the rule for one cell: any text goes out and comes back.
func FuzzCell(f *testing.F) {
	for _, seed := range []string{"", " ", "=1+1", "+", "-5", "@x", "\"", "\"\"", "~", "null", "a\r\nb", "\t", "\x00", "'", "\ufeff", "\u200b", "日本", "\xff"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := record.TextValue(text); err != nil {
			return // no value, so never in a cell
		}
		cell := Cell(&text)
		back, err := Text(cell)
		require.NoError(t, err, "%q", cell)
		require.NotNil(t, back)
		require.Equal(t, text, *back)
	})
}
