package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// Everything that reached an environment in a span of time, and what others changed there.
func TestWhatReachedAnEnvironment(t *testing.T) {
	t.Parallel()
	p := newPlace(t, stampedItems, itemTable+"INSERT INTO items (code, name, price) VALUES ('A','new','1'),('N','=1+1','2'),('K','k','1')",
		itemTable+"INSERT INTO items (code, name, price) VALUES ('A','old','1'),('K','k','1')")
	assert.Contains(t, p.must(0, "history", "--since", "2026-01-01").out, "Nothing reached an environment then")
	p.must(3, "match", "source", "--against", "target", "--name", "first")
	p.as("jonas", 0, "approve", "*")
	p.must(0, "import")
	p.sql("target", "UPDATE items SET name = 'theirs', who = 'ruth', changed = '2026-05-01 10:00:00' WHERE code = 'K'")
	p.must(0, "match", "source", "--against", "target", "--name", "second")
	p.must(0, "match", "source", "--against", "target", "--name", "third")
	p.must(3, "restore", "1", "--record", "item/A")
	p.must(0, "approve", "item/A")
	p.must(0, "import")

	text := words(p.must(0, "history", "--since", "2026-01-01").out)
	for _, want := range []string{"docket 1, imported into target by mara", "item/A: changed, approved by jonas, taken back by docket 4", "name: old became new",
		"item/N: came, approved by jonas", "name: =1+1 price: 2", "docket 2 saw what others changed in target item/K: last changed by ruth name: k became theirs",
		"docket 4, imported into target by mara item/A: changed, approved by mara name: new became old", "3 records."} {
		assert.Contains(t, text, want)
	}
	assert.Equal(t, 1, strings.Count(text, "saw what others changed"), "each is told once")
	var lines []string
	for line := range strings.Lines(p.must(0, "history", "--since", "2026-01-01", "--json").out) {
		validate(t, "history-since", line)
		lines = append(lines, line)
	}
	assert.Len(t, lines, 6)
	assert.Contains(t, p.must(0, "history", "--since", "2026-01-01", "--until", "2026-01-02").out, "Nothing reached")
	assert.Contains(t, p.must(0, "history", "--since", "2099-01-01").out, "Nothing reached")

	p.must(0, "history", "--since", "2026-01-01", "--out", "h.csv")
	assert.Contains(t, string(p.read("h.csv")), `,"""=1+1""",`, "no formula")
	p.must(0, "history", "--since", "2026-01-01", "--out", "h.html")
	page := string(p.read("h.html"))
	assert.Contains(t, page, "<td><bdi>theirs</bdi></td><td><bdi>last changed by ruth</bdi></td>")
	assert.NotContains(t, page, "<script")
	p.must(0, "history", "--since", "2026-01-01", "--out", "h.xlsx")
	book, err := excelize.OpenFile(p.path("h.xlsx"))
	require.NoError(t, err)
	defer book.Close()
	rows, err := book.GetRows("history")
	require.NoError(t, err)
	assert.Len(t, rows, 7)
	assert.Equal(t, []string{"target", "item/A", "name", "old", "new", "changed", "1", "jonas", "mara", "4"}, rows[1][1:])
	p.refused("is there already", "history", "--since", "2026-01-01", "--out", "h.csv")
	p.refused("let its name end in .xlsx, .html or .csv", "history", "--since", "2026-01-01", "--out", "h.txt")
	p.refused("--until needs --since", "history", "--until", "2026-01-01")
	p.refused("is not after --since", "history", "--since", "2026-01-03", "--until", "2026-01-01")
	p.refused("is neither a date such as", "history", "--since", "monday")
	p.refused("leave \"1\" out", "history", "1", "--since", "2026-01-01")
}
