package browser

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

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

// A workbook that somebody filled in, and that a spreadsheet program opened and saved in its
// own way, says the same.
func TestAWorkbookSavedByASpreadsheetProgram(t *testing.T) {
	t.Parallel()
	office := tool(t, "soffice", "libreoffice")
	p := lab(t)
	p.must(0, "review", "--out", "round.xlsx")
	p.answered("round.xlsx", "ida", map[[2]string][3]string{
		{"unit/mg", ""}: {"approve", "", "=1+1, and \"quotes\""}, {"range/GLU/M", "low"}: {"approve", "source", ""}, {"assay/GONE", ""}: {"hold", "", "größer 我們"},
	})
	save := func(form, out string) {
		run := exec.Command(office, "-env:UserInstallation=file://"+p.path("office"), "--headless", "--convert-to", form, "--outdir", p.path(out), p.path("round.xlsx"))
		said, err := run.CombinedOutput()
		require.NoError(t, err, "%s", said)
	}
	save("xlsx", "saved")
	r := p.must(0, "decide", "1", "--from", "saved/round.xlsx")
	assert.Contains(t, r.out, "3 decisions by ida read into docket 1 from saved/round.xlsx.")
	f := p.review()
	assert.Equal(t, `approved =1+1, and "quotes"`, f["unit/mg"].Decision+" "+f["unit/mg"].Note)
	assert.Equal(t, "approved", f["range/GLU/M"].Fields[0].Decision)
	assert.Equal(t, "held größer 我們", f["assay/GONE"].Decision+" "+f["assay/GONE"].Note)
	book, err := excelize.OpenFile(p.path("saved/round.xlsx"))
	require.NoError(t, err)
	defer book.Close()
	for _, sheet := range book.GetSheetList()[1:] {
		lists, err := book.GetDataValidations(sheet)
		require.NoError(t, err)
		assert.NotEmpty(t, lists, "the drop-downs were understood")
	}
}

// A workbook that is a target holds 1,000 odd records exactly, a spreadsheet program that opens and
// saves it loses none of them, and what is imported into what it saved is exact again.
func TestOddValuesInAWorkbookThatASpreadsheetProgramSaves(t *testing.T) {
	t.Parallel()
	office := tool(t, "soffice", "libreoffice")
	pieces := []string{"_x000D_", "_x0041_", "_xD83D_", "=1+1", " ", "'", `"`, "\n", "\t", "1e5", "TRUE", "0012", "2026-01-02", "#N/A", "größer", "我們", "😀", "مرحبا", "a", "-", "&amp;", "<b>",
		"\u00a0", "\u200b", "%", ";", ",", "12,5", "1.50", "@x", "\\", "]]>"}
	dice := rand.New(rand.NewPCG(1, 2)) // #nosec G404 -- odd values, the same each time
	first := time.Date(1900, 3, 1, 0, 0, 0, 0, time.UTC)
	row := func(n int) string {
		text := ""
		for range 1 + dice.IntN(5) {
			text += pieces[dice.IntN(len(pieces))]
		}
		if n%100 == 7 {
			text = strings.Repeat("x", 32767)
		}
		day := first.AddDate(0, 0, dice.IntN(2958465-61+1)).Format(time.DateOnly)
		price := strconv.FormatFloat(float64(dice.IntN(1_000_000_000))/[]float64{1, 10, 100, 1000}[dice.IntN(4)], 'f', -1, 64)
		return fmt.Sprintf("('K%04d','%s','%s',%s,%d)", n, strings.ReplaceAll(text, "'", "''"), day, price, dice.IntN(2))
	}
	rows := func() string {
		out := make([]string, 1000)
		for n := range out {
			out[n] = row(n)
		}
		return strings.Join(out, ",")
	}
	p := newPlace(t, "types:\n  thing: {at: {source: things, files: things}, key: [code], as: {day: date, price: decimal, active: boolean}}\n",
		"CREATE TABLE things (code TEXT PRIMARY KEY, name TEXT, day DATE, price DECIMAL(12,3), active BOOLEAN); INSERT INTO things VALUES "+rows(), "CREATE TABLE x (y)")
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  files: {connect: \"folder:data\"}\n")
	book := excelize.NewFile()
	date, err := book.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	require.NoError(t, book.SetSheetRow("Sheet1", "A1", &[]any{"code", "name", "day", "price", "active"}))
	require.NoError(t, book.SetSheetRow("Sheet1", "A2", &[]any{"K0000", "old", first, 1.5, true}))
	require.NoError(t, book.SetCellStyle("Sheet1", "C2", "C2", date))
	require.NoError(t, os.MkdirAll(p.path("data"), 0o755))
	require.NoError(t, book.SaveAs(p.path("data/things.xlsx")))
	same := func(what string) {
		t.Helper()
		t.Log(what)
		p.must(0, "match", "source", "--against", "files")
	}
	bring := func() {
		t.Helper()
		p.must(3, "match", "source", "--against", "files")
		p.must(0, "approve", "*", "--take", "source")
		p.must(0, "import")
	}
	bring()
	same("written")
	run := exec.Command(office, "-env:UserInstallation=file://"+p.path("office"), "--headless", "--convert-to", "xlsx", "--outdir", p.path("saved"), p.path("data/things.xlsx"))
	said, err := run.CombinedOutput()
	require.NoError(t, err, "%s", said)
	saved, err := os.ReadFile(p.path("saved/things.xlsx"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(p.path("data/things.xlsx"), saved, 0o600))
	same("saved by the spreadsheet program")
	db, err := sql.Open("sqlite", "file:"+p.path("source.db"))
	require.NoError(t, err)
	_, err = db.Exec("DELETE FROM things; INSERT INTO things VALUES " + rows())
	require.NoError(t, errors.Join(err, db.Close()))
	bring()
	same("written into what it saved")
}
