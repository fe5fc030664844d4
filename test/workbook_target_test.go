package test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

const bookCatalog = `
types:
  thing: {at: {files: things}, key: [code], as: {valid: date, price: decimal, active: boolean}}
`

// bookPlace has a database as source and a workbook as target, whose sheet is a table with
// dates, numbers and booleans.
func bookPlace(t *testing.T, rows string) *place {
	t.Helper()
	p := newPlace(t, bookCatalog, "CREATE TABLE thing (code TEXT PRIMARY KEY, valid DATE, price DECIMAL(30,10), active BOOLEAN, note TEXT);"+
		"INSERT INTO thing VALUES "+rows, "CREATE TABLE x (y)")
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  files: {connect: \"folder:data\"}\n")
	book := excelize.NewFile()
	day := func(text string) time.Time {
		out, err := time.Parse(time.DateOnly, text)
		require.NoError(t, err)
		return out
	}
	date, err := book.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	for i, row := range [][]any{{"code", "valid", "price", "active", "note"}, {"A", day("2026-01-31"), 1.5, true, "old"}, {"B", day("2026-02-28"), 2, false, "b"}} {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		require.NoError(t, err)
		require.NoError(t, book.SetSheetRow("Sheet1", at, &row))
	}
	require.NoError(t, book.SetCellStyle("Sheet1", "B2", "B3", date))
	require.NoError(t, book.AddTable("Sheet1", &excelize.Table{Range: "A1:E3", Name: "things"}))
	require.NoError(t, os.MkdirAll(p.path("data"), 0o755))
	require.NoError(t, book.SaveAs(p.path("data/things.xlsx")))
	return p
}

// A workbook holds what was approved, in cells of the kind that its columns have, and its table
// takes in the new rows.
func TestAWorkbookHoldsWhatWasApproved(t *testing.T) {
	t.Parallel()
	p := bookPlace(t, `('A','9999-12-31',12.25,0,'a_x000D_b'), ('B','2026-02-28',2,0,'b'), ('C','2192-04-10',0.1,1,'_x0041_x0042_'), ('D','1900-03-01',-3,0,NULL)`)
	p.must(3, "match", "source", "--against", "files", "--name", "s")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Empty(t, totals(p.json(0, "match", "s", "--against", "files")))
	book, err := excelize.OpenFile(p.path("data/things.xlsx"))
	require.NoError(t, err)
	defer book.Close()
	raw := func(at string) string {
		v, err := book.GetCellValue("Sheet1", at, excelize.Options{RawCellValue: true})
		require.NoError(t, err)
		return v
	}
	for at, want := range map[string]string{"B2": "2958465", "C2": "12.25", "D2": "0", "E2": "a_x000D_b", "B4": "106753", "C4": "0.1", "D4": "1",
		"E4": "_x0041_x0042_", "B5": "61", "C5": "-3", "D5": "0", "E5": ""} {
		assert.Equal(t, want, raw(at), at)
	}
	for at, want := range map[string]excelize.CellType{"B5": excelize.CellTypeUnset, "C5": excelize.CellTypeUnset, "D5": excelize.CellTypeBool} {
		kind, err := book.GetCellType("Sheet1", at)
		require.NoError(t, err)
		assert.Equal(t, want, kind, at)
	}
	shown, err := book.GetCellValue("Sheet1", "B5")
	require.NoError(t, err)
	assert.Equal(t, "03-01-00", shown, "in the form of the others")
	tables, err := book.GetTables("Sheet1")
	require.NoError(t, err)
	require.Len(t, tables, 1)
	assert.Equal(t, "A1:E5", tables[0].Range)

	// Taken back, it is what it was.
	p.must(3, "restore", "1")
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	back, err := excelize.OpenFile(p.path("data/things.xlsx"))
	require.NoError(t, err)
	defer back.Close()
	rows, err := back.GetRows("Sheet1", excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"code", "valid", "price", "active", "note"}, {"A", "46053", "1.5", "1", "old"}, {"B", "46081", "2", "0", "b"}}, rows)
	tables, err = back.GetTables("Sheet1")
	require.NoError(t, err)
	assert.Equal(t, "A1:E3", tables[0].Range)
}

// A workbook that counts its days from 1904, with two sheets of which each is a place.
func TestAWorkbookThatCountsFrom1904(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  thing: {at: {source: thing, files: book/things}, key: [code], as: {day: date}}\n",
		"CREATE TABLE thing (code TEXT PRIMARY KEY, day DATE); INSERT INTO thing VALUES ('A','2026-01-31'),('B','1904-01-01'),('C','9999-12-31'),('D','1903-12-31')", "CREATE TABLE x (y)")
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  files: {connect: \"folder:data\"}\n")
	book := excelize.NewFile()
	yes := true
	require.NoError(t, book.SetWorkbookProps(&excelize.WorkbookPropsOptions{Date1904: &yes}))
	date, err := book.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	require.NoError(t, book.SetCellStr("Sheet1", "A1", "notes"))
	_, err = book.NewSheet("things")
	require.NoError(t, err)
	require.NoError(t, book.SetSheetRow("things", "A1", &[]any{"code", "day"}))
	require.NoError(t, book.SetSheetRow("things", "A2", &[]any{"A", 44590})) // 2026-01-30
	require.NoError(t, book.SetCellStyle("things", "B2", "B2", date))
	require.NoError(t, os.MkdirAll(p.path("data"), 0o755))
	require.NoError(t, book.SaveAs(p.path("data/book.xlsx")))
	p.must(3, "match", "source", "--against", "files")
	f := p.review()
	assert.Equal(t, "changed", f["thing/A"].Status)
	assert.Contains(t, messages(f["thing/D"])[0], "field day is 1903-12-31, and a cell for dates holds 1904-01-01 to 9999-12-31 in files")
	p.must(0, "decline", "thing/D")
	p.must(0, "approve", "*")
	p.must(0, "import")
	back, err := excelize.OpenFile(p.path("data/book.xlsx"))
	require.NoError(t, err)
	defer back.Close()
	rows, err := back.GetRows("things", excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"code", "day"}, {"A", "44591"}, {"B", "0"}, {"C", "2957003"}}, rows)
}

// What a cell cannot hold is said at the match, and nothing is written instead.
func TestWhatACellCannotHoldIsSaidAtTheMatch(t *testing.T) {
	t.Parallel()
	p := bookPlace(t, `('A','1850-01-01',1.5,1,'old'), ('B','2026-02-28',12345678901234568,0,'b'), ('C','2026-01-01',1,1,'`+
		strings.Repeat("x", 32768)+`'), ('D','1900-02-28',1,1,'d')`)
	before := string(p.read("data/things.xlsx"))
	p.must(3, "match", "source", "--against", "files")
	said := ""
	for _, f := range p.review() {
		said += strings.Join(messages(f), "\n") + "\n"
	}
	for _, want := range []string{"thing/A: field valid is 1850-01-01, and a cell for dates holds 1900-03-01 to 9999-12-31 in files",
		"thing/B: field price is 12345678901234568, and a cell for numbers holds 15 digits in files",
		"thing/C: field note has 32768 characters, and 32767 fit in files",
		"thing/D: field valid is 1900-02-28, and a cell for dates holds 1900-03-01 to 9999-12-31 in files"} {
		assert.Contains(t, said, want)
	}
	p.must(0, "approve", "*")
	p.must(4, "import")
	assert.Equal(t, before, string(p.read("data/things.xlsx")))
}

// A new file that would be read otherwise than it was written replaces nothing.
func TestAWorkbookThatIsReadOtherwiseReplacesNothing(t *testing.T) {
	t.Parallel()
	p := bookPlace(t, `('A','2026-01-31',1.5,1,'_x000D_'), ('B','2026-02-28',2,0,'_x005F_x000D_')`)
	before := string(p.read("data/things.xlsx"))
	p.must(3, "match", "source", "--against", "files")
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(1, "import").err), `row 3 of things would hold "_x000D_" in note, and "_x005F_x000D_" is to be written`)
	assert.Equal(t, before, string(p.read("data/things.xlsx")))
	names, err := os.ReadDir(p.path("data"))
	require.NoError(t, err)
	for _, name := range names {
		assert.NotContains(t, name.Name(), "before", "nothing was kept, as nothing was replaced")
	}
	p.must(0, "decline", "thing/B")
	p.must(0, "import")
}

// A file, or a sheet, that is no table stands in nobody's way but of those who ask for it.
func TestWhatIsNoTableBlocksNobodyElse(t *testing.T) {
	t.Parallel()
	p := bookPlace(t, `('A','2026-01-31',1.5,1,'new'), ('B','2026-02-28',2,0,'b')`)
	p.write("data/empty.csv", "")
	p.write("data/broken.jsonl", "{\n")
	book := excelize.NewFile()
	require.NoError(t, book.SetCellStr("Sheet1", "B1", "a note, and no names"))
	_, err := book.NewSheet("fine")
	require.NoError(t, err)
	require.NoError(t, book.SetCellStr("fine", "A1", "code"))
	require.NoError(t, book.SaveAs(p.path("data/notes.xlsx")))
	p.write("data/not.xlsx", "not one")
	out := words(p.must(0, "env", "test", "files").out)
	assert.Contains(t, out, "2 tables, read and write")
	for _, want := range []string{"empty.csv: it is empty; the first line names the columns", "broken.jsonl: line 1",
		"notes.xlsx: sheet Sheet1: row 1: column 1 has no name in the first line", "not.xlsx: it is no spreadsheet in XLSX form"} {
		assert.Contains(t, out, want)
	}
	p.must(3, "match", "source", "--against", "files")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), "files: things", "files: empty", 1))
	p.refused(`files cannot read "empty"`, "export", "files")
	p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), "files: empty", "files: not/Sheet1", 1))
	p.refused(`not.xlsx: it is no spreadsheet in XLSX form`, "export", "files")
}

// Totals below a table are no record, and rows are not pushed in between.
func TestTotalsAreNoRecord(t *testing.T) {
	t.Parallel()
	p := bookPlace(t, `('A','2026-01-31',1.5,1,'old'), ('B','2026-02-28',2,0,'b'), ('C','2026-02-28',2,0,'c')`)
	book, err := excelize.OpenFile(p.path("data/things.xlsx"))
	require.NoError(t, err)
	require.NoError(t, book.SetCellStr("Sheet1", "A4", "Total"))
	require.NoError(t, book.SetCellFormula("Sheet1", "C4", "SUBTOTAL(109,C2:C3)"))
	content, ok := book.Pkg.Load("xl/tables/table1.xml")
	require.True(t, ok)
	text := strings.Replace(string(content.([]byte)), `ref="A1:E3"`, `ref="A1:E4" totalsRowCount="1"`, 1)
	book.Pkg.Store("xl/tables/table1.xml", []byte(text))
	require.NoError(t, book.Save())
	require.NoError(t, book.Close())
	assert.Equal(t, map[string]int{"new": 1}, totals(p.json(3, "match", "source", "--against", "files", "--name", "s")))
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(1, "import").err),
		"table things of sheet Sheet1 ends in a row of totals, which adding and removing rows would move. Turn the totals off there and try again")
}
