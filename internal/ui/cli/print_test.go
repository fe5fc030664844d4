package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"anagram/internal/core/yamldoc"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
)

func testApp() (*app, *bytes.Buffer) {
	var out bytes.Buffer
	return &app{Streams: Streams{Out: &out, Err: &out}, ran: true}, &out
}

func TestTablesAlignAndFit(t *testing.T) {
	a, out := testApp()
	tab := table{columns: []string{"record type", ">new", "=when", "note"}}
	tab.add("assay", "7", "2026-11-23 07:10 UTC", "short")
	tab.add("シ 日本語", "12345", "2026-11-23 07:10 UTC", strings.Repeat("a long note ", 9))
	a.printTable(tab, "  ")
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
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
	a, _ := testApp()
	got := a.wrap("  "+strings.Repeat("word ", 30)+"\nnext", "  ")
	lines := strings.Split(got, "\n")
	assert.True(t, strings.HasPrefix(lines[0], "  word"))
	assert.True(t, strings.HasPrefix(lines[1], "    word"))
	assert.Equal(t, "  next", lines[len(lines)-1])
	assert.Equal(t, "one line", a.wrap("one line", "    "))
}

func TestNumbersAndNouns(t *testing.T) {
	for want, got := range map[string]string{
		"0 records": count(0, "record"), "1 record": count(1, "record"), "2 records": count(2, "record"), "2 entries": count(2, "entry"), "3 keys": count(3, "key"),
		"999 B": size(999), "1.5 kB": size(1500), "22.7 MB": size(22_700_000), "2026-11-23 07:10 UTC": when("2026-11-23T08:10:35.123+01:00"), "soon": when("soon"),
	} {
		assert.Equal(t, want, got)
	}
	assert.Equal(t, []string{"approve", "a b", "c'd", "x"}, splitWords(`approve "a b" "c'd"  x`))
	assert.Equal(t, `'assay/*'`, quoteArg("assay/*"))
	assert.Equal(t, "plain", quoteArg("plain"))
}

func TestExitCodesFollowFromTheTypeOfAnError(t *testing.T) {
	for want, errs := range map[int][]error{
		exitFailed:      {errors.New("x"), &environment.Error{}, &environment.RecordError{}, &parcel.Error{}},
		exitUsage:       {&session.UsageError{}, &session.CatalogError{}, &yamldoc.Error{}, &workspace.Error{}, &parcel.ExistsError{}},
		exitBlocked:     {&session.BlockedError{}},
		exitInterrupted: {context.Canceled, fmt.Errorf("reading: %w", context.Canceled)},
	} {
		for _, err := range errs {
			a, _ := testApp()
			assert.Equal(t, want, a.codeOf(err), "%T", err)
			assert.Equal(t, want, a.codeOf(fmt.Errorf("wrapped: %w", err)), "%T", err)
		}
	}
	a, out := testApp()
	assert.Equal(t, 0, a.exit(nil))
	assert.Empty(t, out.String())
}
