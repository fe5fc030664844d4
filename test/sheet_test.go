package test

import (
	"archive/zip"
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// answered fills in the answer cells of a workbook: address and field -> decision, take, note.
func (p *place) answered(name, by string, answers map[[2]string][3]string) {
	p.t.Helper()
	book, err := excelize.OpenFile(p.path(name))
	require.NoError(p.t, err)
	defer book.Close()
	summary, err := book.GetRows("Summary")
	require.NoError(p.t, err)
	for i, row := range summary {
		if len(row) > 0 && row[0] == "decided by" {
			require.NoError(p.t, book.SetCellStr("Summary", "B"+strconv.Itoa(i+1), by))
		}
	}
	for _, sheet := range book.GetSheetList()[1:] {
		rows, err := book.GetRows(sheet)
		require.NoError(p.t, err)
		for i, row := range rows {
			fill, ok := answers[[2]string{row[0], row[3]}]
			if !ok {
				continue
			}
			for n, cell := range fill {
				require.NoError(p.t, book.SetCellStr(sheet, string(rune('K'+n))+strconv.Itoa(i+1), cell))
			}
		}
	}
	require.NoError(p.t, book.Save())
}

// partsWith lists the parts of a workbook that hold a text.
func (p *place) partsWith(name, text string) (out []string) {
	p.t.Helper()
	z, err := zip.OpenReader(p.path(name))
	require.NoError(p.t, err)
	defer z.Close()
	for _, f := range z.File {
		in, err := f.Open()
		require.NoError(p.t, err)
		content, err := io.ReadAll(in)
		require.NoError(p.t, err)
		require.NoError(p.t, in.Close())
		if strings.Contains(string(content), text) {
			out = append(out, f.Name)
		}
	}
	return out
}

// A workbook is handed round, filled in and read back.
func TestAWorkbookComesBack(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "hold", "rule/R2", "--note", "before")
	r := p.must(0, "review", "--out", "round.xlsx")
	assert.Contains(t, r.out, "12 findings of docket 1 written into round.xlsx.")
	p.refused("is there already", "review", "--out", "round.xlsx")
	book, err := excelize.OpenFile(p.path("round.xlsx"))
	require.NoError(t, err)
	for _, sheet := range book.GetSheetList()[1:] {
		lists, err := book.GetDataValidations(sheet)
		require.NoError(t, err)
		assert.Len(t, lists, 2, "drop-downs for decision and take")
		locked, err := book.GetCellStyle(sheet, "A2")
		require.NoError(t, err)
		open, err := book.GetCellStyle(sheet, "K2")
		require.NoError(t, err)
		style, err := book.GetStyle(open)
		require.NoError(t, err)
		assert.NotEqual(t, locked, open)
		assert.False(t, style.Protection.Locked)
		panes, err := book.GetPanes(sheet)
		require.NoError(t, err)
		assert.True(t, panes.Freeze)
	}
	require.NoError(t, book.Close())
	assert.Equal(t, []string{"xl/worksheets/sheet1.xml"}, p.partsWith("round.xlsx", `tabSelected="`), "what is typed goes into every sheet that is selected")
	assert.Len(t, p.partsWith("round.xlsx", "<autoFilter "), len(book.GetSheetList())-1)
	p.answered("round.xlsx", "ida", map[[2]string][3]string{
		{"unit/mg", ""}:         {"approve", "", "new unit"},
		{"assay/NEW", ""}:       {"approve", "", ""},
		{"range/GLU/F", "low"}:  {"APPROVE", "", ""},
		{"range/GLU/M", ""}:     {"", "source", "theirs"},
		{"assay/GONE", ""}:      {"decline", "", "still needed"},
		{"rule/R2", ""}:         {"reopen", "", ""},
		{"assay/OLD2", "name"}:  {"hold", "", ""},
		{"unit/mg", "name"}:     {"", "", ""},
		{"range/NEW/F", "none"}: {"approve", "", ""},
	})
	r = p.must(0, "decide", "1", "--from", "round.xlsx")
	assert.Contains(t, words(r.out), "6 decisions by ida read into docket 1 from round.xlsx.")
	assert.Contains(t, words(r.out), "1 finding decided by others alone, so nothing was taken back: rule/R2 (mara).")
	f := p.review()
	assert.Equal(t, "held before", f["rule/R2"].Decision+" "+f["rule/R2"].Note, "what somebody holds only they let go")
	assert.Equal(t, "approved ida new unit", f["unit/mg"].Decision+" "+f["unit/mg"].DecidedBy+" "+f["unit/mg"].Note)
	assert.Equal(t, "approved", f["assay/NEW"].Decision)
	assert.Equal(t, "open", f["range/GLU/F"].Decision)
	assert.Equal(t, "approved", f["range/GLU/F"].Fields[0].Decision)
	assert.Equal(t, "approved theirs", f["range/GLU/M"].Decision+" "+f["range/GLU/M"].Note)
	assert.Equal(t, "declined", f["assay/GONE"].Decision)
	assert.Contains(t, p.must(0, "decide", "1", "--from", "round.xlsx").out, "has no decision that docket 1 does not have", "a table can be read in twice")
}

// Nothing of a table is read in where a row of it is not understood, and each such row is
// named.
func TestTablesThatAreNotUnderstood(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "review", "--out", "round.xlsx")
	p.answered("round.xlsx", "", map[[2]string][3]string{
		{"unit/mg", ""}:     {"agree", "", ""},
		{"assay/NEW", ""}:   {"", "", "only a note"},
		{"assay/GONE", ""}:  {"approve", "", ""},
		{"rule/R1", ""}:     {"decline", "source", ""},
		{"rule/R2", ""}:     {"approve", "both", ""},
		{"range/GLU/F", ""}: {"approve", "", ""},
	})
	r := p.run("decide", "1", "--from", "round.xlsx")
	assert.Equal(t, 2, r.code)
	for _, want := range []string{`sheet unit, row 2: the decision "agree" is not known`, "sheet assay, row 2: there is a note but no decision", "assay/GONE cannot be approved: it is target-only", "sheet rule, row", "nothing was read in"} {
		assert.Contains(t, words(r.err), want)
	}
	assert.Equal(t, "open", p.review()["range/GLU/F"].Decision)

	p.must(0, "review", "--out", "round.csv", "--type", "range", "--status", "changed")
	text := string(p.read("round.csv"))
	edit := func(change func(rows [][]string)) {
		rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		require.NoError(t, err)
		change(rows)
		var out strings.Builder
		require.NoError(t, csv.NewWriter(&out).WriteAll(rows))
		p.write("back.csv", out.String())
	}
	for says, change := range map[string]func([][]string){
		"line 2: it is about another docket or an earlier match": func(rows [][]string) { rows[1][13] = "1:0000000000000000" },
		`line 2: docket 1 has no finding of "range/GLU/X"`:       func(rows [][]string) { rows[1][0], rows[1][10] = "range/GLU/X", "approve" },
		`line 3: range/GLU/F has no field "lo" that differs`:     func(rows [][]string) { rows[2][3], rows[2][10] = "lo", "approve" },
		`there is no column "decision"`:                          func(rows [][]string) { rows[0][10] = "what" },
		"10000 are the most":                                     func(rows [][]string) { rows[1][10], rows[1][12] = "hold", strings.Repeat("x", 10_001) },
		"of no record":                                           func(rows [][]string) { rows[1][0], rows[1][10], rows[1][13] = "", "hold", "" },
	} {
		edit(change)
		p.refused(says, "decide", "1", "--from", "back.csv")
	}
	edit(func(rows [][]string) { rows[1][10], rows[1][12] = "hold", "later"; rows[4][10] = "approve" })
	p.as("jonas", 0, "decide", "1", "--from", "back.csv")
	assert.Equal(t, "held jonas later", p.review()["range/GLU/F"].Decision+" "+p.review()["range/GLU/F"].DecidedBy+" "+p.review()["range/GLU/F"].Note)
	assert.Equal(t, "approved", p.review()["range/GLU/M"].Fields[0].Decision)

	// As a spreadsheet program writes it where the comma stands in numbers.
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	rows[3][10] = "decline"
	var other strings.Builder
	w := csv.NewWriter(&other)
	w.Comma, w.UseCRLF = ';', true
	require.NoError(t, w.WriteAll(rows))
	p.write("back.csv", "\ufeff"+other.String())
	p.as("otto", 0, "decide", "1", "--from", "back.csv")
	assert.Equal(t, "declined otto", p.review()["range/GLU/M"].Decision+" "+p.review()["range/GLU/M"].DecidedBy)

	// Neither a table of another docket nor one of an earlier match counts.
	p.must(3, "match", "p", "--against", "target")
	p.refused("about another docket", "decide", "2", "--from", "back.csv")
	p.refused("about another docket, or about an earlier match than docket 2", "decide", "2", "--from", "round.xlsx")
	p.write("broken.xlsx", "PK")
	p.refused("broken.xlsx", "decide", "1", "--from", "broken.xlsx")
	p.refused("There is no file", "decide", "1", "--from", "nowhere.xlsx")
	p.refused("the folder of no/where.csv is not there", "review", "--out", "no/where.csv")
	p.refused("say on which record, and what", "comment", "1", "what?")
	p.refused("by the end of the file's name", "review", "--out", "round.ods")
}

// What values hold is shown in tables and never calculated.
func TestTablesHoldTexts(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, a TEXT, n INTEGER);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], title: a}\n",
		table+`INSERT INTO items VALUES ('X','=cmd|''/c calc''!A0',-5),('Y,=1+1','@SUM(1)',1),('Z',char(27)||'[31m'||char(8238)||'x',2);`, table+`INSERT INTO items VALUES ('X','+1',7)`)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "decline", "item/X", "--note", "=1+1")
	p.must(0, "review", "--out", "r.xlsx")
	p.must(0, "review", "--out", "r.csv")
	book, err := excelize.OpenFile(p.path("r.xlsx"))
	require.NoError(t, err)
	defer book.Close()
	for _, sheet := range book.GetSheetList() {
		rows, err := book.GetRows(sheet)
		require.NoError(t, err)
		for i, row := range rows {
			for n := range row {
				at, err := excelize.CoordinatesToCellName(n+1, i+1)
				require.NoError(t, err)
				formula, err := book.GetCellFormula(sheet, at)
				require.NoError(t, err)
				assert.Empty(t, formula)
			}
		}
	}
	rows, err := csv.NewReader(strings.NewReader(string(p.read("r.csv")))).ReadAll()
	require.NoError(t, err)
	for _, row := range rows {
		for _, cell := range row {
			assert.NotRegexp(t, `^[=+@\t\r]|^-[^0-9]`, cell)
			assert.NotContains(t, cell, "\x1b")
			assert.NotContains(t, cell, "\u202e")
		}
	}
	// Addresses come back however they were written.
	p.answered("r.xlsx", "ida", map[[2]string][3]string{{"item/Y,%3D1+1", ""}: {"approve", "", ""}})
	p.must(0, "decide", "1", "--from", "r.xlsx")
	assert.Equal(t, "approved", p.review()["item/Y,=1+1"].Decision)
}
