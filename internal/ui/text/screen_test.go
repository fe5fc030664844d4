package text

import (
	"bytes"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/assert"
)

func onScreen(text string) string {
	var out bytes.Buffer
	_, _ = NewScreen(&out).Write([]byte(text))
	return out.String()
}

func TestOnlyOwnStylesReachTheScreen(t *testing.T) {
	bold := NewStyle(lipgloss.NewStyle().Bold(true))
	assert.Equal(t, "\x1b[1mx\\x1b[1my\x1b[m \\x1b[1mz\n", onScreen(bold.Render("x\x1b[1my")+" \x1b[1mz\n"))
	assert.Equal(t, `\x1b[1;7123m`, onScreen("\x1b[1;7123m"), "a guess at the mark")
	assert.Equal(t, `\x1b]0;title\a`, onScreen("\x1b]0;title\x07"))
	assert.Equal(t, "a\nb", onScreen("a\nb"), "lines are the writer's own")
	assert.Equal(t, `a\nb`, Line("a\nb"), "and within what is shown they are data")
	assert.Equal(t, bold.Render("a")+`\n`, Line(bold.Render("a")+"\n"))
	assert.Equal(t, `  x\nForged: line`, Wrap("  x\nForged: line", "", 80))
	table := Table{Columns: []string{"a", "b"}}
	table.Add("1\n  2", "x\x1b[2J")
	assert.Equal(t, `1\n  2  x\x1b[2J`, table.Lines("", 80, nil)[1])
}

func TestRightToLeftStaysInItsPlace(t *testing.T) {
	assert.Equal(t, "name: \u2068שלום עולם\u2069 (3)", onScreen("name: שלום עולם (3)"))
	assert.Equal(t, "\u2068א\u2069 b \u2068ג\u2069", onScreen("א b ג"))
	assert.Equal(t, "a \u2068\\u202eשלום\u2069", onScreen("a \u202eשלום"))
	assert.Equal(t, "a\n\u2068ب\u2069\nb", onScreen("a\nب\nb"))
}
