package text

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

func TestTablesAlignAndFit(t *testing.T) {
	tab := Table{Columns: []string{"record type", ">new", "=when", "note"}}
	tab.Add("assay", "7", "2026-11-23 07:10 UTC", "short")
	tab.Add("シ 日本語", "12345", "2026-11-23 07:10 UTC", strings.Repeat("a long note ", 9))
	lines := tab.Lines("  ", 80, nil)
	assert.Equal(t, "  record type    new  when                  note", lines[0])
	assert.Equal(t, "  assay            7  2026-11-23 07:10 UTC  short", lines[1])
	assert.Equal(t, "  シ 日本語    12345  2026-11-23 07:10 UTC  a long note a long note a long note", lines[2])
	assert.Greater(t, len(lines), 4, "a long cell is wrapped")
	for _, line := range lines {
		assert.LessOrEqual(t, ansi.StringWidth(line), 80)
		assert.Equal(t, strings.TrimRight(line, " "), line)
	}
}

func TestWrapKeepsIndents(t *testing.T) {
	got := Wrap("  "+strings.Repeat("word ", 30), "  ", 80)
	lines := strings.Split(got, "\n")
	assert.True(t, strings.HasPrefix(lines[0], "  word"))
	assert.True(t, strings.HasPrefix(lines[1], "    word"))
	assert.Equal(t, "one line", Wrap("one line", "    ", 80))
}

func TestNumbersAndNouns(t *testing.T) {
	for want, got := range map[string]string{
		"0 records": Count(0, "record"), "1 record": Count(1, "record"), "2 records": Count(2, "record"), "2 entries": Count(2,
			"entry"), "3 keys": Count(3, "key"),
		"999 B": Size(999), "1.5 kB": Size(1500), "22.7 MB": Size(22_700_000),
		"2026-11-23 07:10 UTC": When("2026-11-23T08:10:35.123+01:00"), "soon": When("soon"),
	} {
		assert.Equal(t, want, got)
	}
}
