package browser

import (
	"os/exec"
	"strconv"
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
