package sheet

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

func layout(t testing.TB) Table {
	c, err := catalog.Parse("c", []byte(`
types:
  dep: {key: [parent, code], id: id, refers: {parent: dep}}
  unit: {key: [code], id: id}
  assay: {key: [dep, code], id: id, refers: {dep: dep, unit: unit, about: [dep, unit], formula: {to: unit, pattern: "{ID}"}}}
`))
	require.NoError(t, err)
	text := record.Field{Name: "code", Kind: record.Text}
	shapes := record.Shapes{"dep": {{Name: "parent", Kind: record.Reference, Refers: "dep"}, text}, "unit": {text}, "assay": {{Name: "dep", Kind: record.Reference, Refers: "dep"}, text}}
	return Table{c, shapes, "assay", []record.Field{
		{Name: "name", Kind: record.Text}, {Name: "price", Kind: record.Decimal}, {Name: "unit", Kind: record.Reference, Refers: "unit"}, {Name: "about", Kind: record.Reference, Among: []string{"dep", "unit"}},
		{Name: "rule", Kind: record.JSON}, {Name: "sheet", Kind: record.Bytes}, {Name: "formula", Kind: record.Woven, Among: []string{"unit"}}, {Name: "on", Kind: record.Boolean},
	}}
}

var sample = []string{
	`{"key":[[[null,"CORE"],"CHEM"],"GLU"],"values":{"name":"a, \"b\"\nc","price":"1.5","unit":["mg/L"],"about":{"to":"dep","key":[null,"CORE"]},"rule":{"json":{"a":[1]}},"sheet":{"file":"sha256:` + strings.Repeat("ab", 32) + `"},"formula":{"woven":["{",{"to":"unit","key":["g"]},"}"]},"on":true}}`,
	`{"key":[null,"=K"],"values":{"name":"","price":null,"unit":null,"about":null,"rule":null,"sheet":null,"formula":null,"on":false}}`,
	`{"key":[null,"\"q\""],"values":{"name":" שלום ","price":"-3","unit":["+"],"about":{"to":"unit","key":["~"]},"rule":{"json":null},"sheet":null,"formula":{"woven":[]},"on":null}}`,
	`{"key":[null,"a\r\nb"],"values":{"name":"-5","price":null,"unit":null,"about":null,"rule":null,"sheet":null,"formula":null,"on":null}}`,
}

func TestRecordsComeBackFromATable(t *testing.T) {
	table := layout(t)
	for name, form := range map[string]struct {
		write func(*bytes.Buffer) (Writer, error)
		read  func(*bytes.Buffer, func(int, []string) error) error
	}{
		"csv":  {func(b *bytes.Buffer) (Writer, error) { return NewCSV(b), nil }, func(b *bytes.Buffer, row func(int, []string) error) error { return ReadCSV(b, row) }},
		"xlsx": {func(b *bytes.Buffer) (Writer, error) { return NewXLSX(b, "assay") }, func(b *bytes.Buffer, row func(int, []string) error) error { return ReadXLSX(b, row) }},
	} {
		var out bytes.Buffer
		w, err := form.write(&out)
		require.NoError(t, err)
		require.NoError(t, w.Row(table.Header()))
		for _, line := range sample {
			rec, err := record.ParseLine([]byte(line), "assay", table.Fields, table.Shapes)
			require.NoError(t, err)
			cells, err := table.Row(rec)
			require.NoError(t, err)
			require.NoError(t, w.Row(cells))
		}
		require.NoError(t, w.Close())
		var r *Reader
		var got []string
		require.NoError(t, form.read(&out, func(_ int, cells []string) (err error) {
			if r == nil {
				r, err = NewReader(table, cells)
				return err
			}
			rec, err := r.Record(cells)
			if err == nil {
				got = append(got, string(record.AppendLine(nil, table.Fields, rec)))
			}
			return err
		}))
		assert.Equal(t, sample, got, name)
	}
}

func TestWhatATableSaysWrong(t *testing.T) {
	table := layout(t)
	for given, want := range map[string]string{
		"dep,cod\n":                      `row 1: column 2 is named "cod", but assay has no such field; did you mean "code"?`,
		"dep,name\n":                     `row 1: the column "code" is missing, which is part of the key of assay`,
		"dep,code,code\n":                `row 1: column 3: "code" stands twice`,
		"dep,code,price\n,A,1\n,B,x\n":   `row 3: column price: "x" is not a number`,
		"dep,code,unit\n,A,a/b\n":        `row 2: column unit: "a/b" is no key of unit: 2 parts are too many`,
		"dep,code,about\n,A,assay/x/y\n": `row 2: column about: it refers to assay, which is none of dep, unit`,
		"dep,code,name\n,A,\"\"\"x\"\n":  `begins with a quote but is no JSON text`,
		"dep,code\n,A,more\n":            `row 2: the row has 3 cells where there are 2 columns`,
		"dep,code\n\"x\n":                `row 2: extraneous or missing " in quoted-field`,
	} {
		var r *Reader
		err := ReadCSV(strings.NewReader("\ufeff"+given), func(_ int, cells []string) (err error) {
			if r == nil {
				r, err = NewReader(table, cells)
			} else {
				_, err = r.Record(cells)
			}
			return err
		})
		require.Error(t, err, given)
		assert.Contains(t, err.Error(), want)
	}
	assert.ErrorContains(t, ReadXLSX(strings.NewReader("PK no"), nil), "no spreadsheet")
}
