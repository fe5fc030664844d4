//go:build unix

package test

import (
	"bytes"
	"io"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostile is what a stranger would put wherever a text can stand.
const hostile = "x\x1b[2J\x1b]0;owned\x07\x1b[31m\u009b5m\u202eevil\u2066\u200b\u2028FORGED\nFORGED 0 blockers\r\x08"

// onTerminal runs a command on a terminal of its own and gives what it shows.
func (p *place) onTerminal(args ...string) string {
	cmd := p.command(args...)
	cmd.Env = append(cmd.Env, "TERM=xterm-256color", "COLORTERM=truecolor")
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(p.t, err)
	defer terminal.Close()
	var out bytes.Buffer
	_, _ = io.Copy(&out, terminal) // ends with an error when the command does
	var exit *exec.ExitError
	if err := cmd.Wait(); err != nil {
		require.ErrorAs(p.t, err, &exit)
	}
	return out.String()
}

// Whatever stands in data, names, notes and files: a terminal obeys none of it, and no line
// is forged.
func TestATerminalObeysNothing(t *testing.T) {
	t.Parallel()
	inGate(t, "terminals")
	quoted := strings.ReplaceAll(hostile, "'", "''")
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, other TEXT, changed_at TEXT, changed_by TEXT, CHECK (length(name) < 500)); CREATE TABLE \"odd\x1b[2J\nFORGED\" (a TEXT PRIMARY KEY, \"col\x1b[2J\nFORGED\" TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, title: name, stamp: {at: changed_at, by: changed_by}, local: {other: {target: \"l\\e[2J\\nFORGED\"}}}\n",
		table+"INSERT INTO items VALUES (1,'A','"+quoted+"','o','2026-01-01','"+quoted+"'),(2,'"+quoted+"','b','o','2026-01-01','me'),(3,'C','"+quoted+"','o','x','y');",
		table+"INSERT INTO items VALUES (5,'A','old','o','"+quoted+"','"+quoted+"'),(6,'D"+quoted+"','only','o','"+quoted+"','"+quoted+"');")
	p.user = "mara" + hostile
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "  target: {", "  target: {release: \"1\\e[2J\\nFORGED\", guard: {release: exact}, ", 1))
	ran := 0
	look := func(args ...string) {
		text := p.onTerminal(args...)
		ran++
		// Own styles are bold, faint and colours; a terminal's echo adds carriage returns.
		rest := regexp.MustCompile("\x1b\\[(?:1|2|3[345]|1;3[345]|3[345];1|)m").ReplaceAllString(strings.ReplaceAll(text, "\r\n", "\n"), "")
		for _, sign := range []string{"\x1b", "\u009b", "\x07", "\x08", "\r", "\u202e", "\u2066", "\u200b", "\u2028"} {
			assert.NotContains(t, rest, sign, "%q of %v:\n%q", sign, args, text)
		}
		for line := range strings.Lines(rest) {
			assert.False(t, strings.HasPrefix(strings.TrimLeft(line, " "), "FORGED"), "%v: %q", args, line)
		}
	}
	both := func(args ...string) {
		look(args...)
		look(append(args, "--json")...)
	}
	both("env", "test")
	both("env", "list")
	both("catalog", "show", "item")
	both("catalog", "check")
	both("catalog", "draft", "source")
	both("export", "source", "--name", "p", "--note", hostile)
	both("parcel", "list")
	both("parcel", "show", "p")
	both("parcel", "show", "p", "item/A")
	both("parcel", "verify", "p")
	both("parcel", "table", "p", "item")
	both("match", "p", "--against", "target")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "guard: {release: exact}, ", "", 1))
	both("match", "p", "--against", "target")
	both("review", "--print")
	both("review", "--print", "--all")
	both("review", "--removals")
	both("approve", "item/A", "--note", hostile)
	both("approve", "*", "--note", hostile)
	both("decline", "item/C", "--note", hostile)
	both("status")
	p.sql("target", "CREATE TRIGGER no BEFORE UPDATE ON items BEGIN SELECT RAISE(ABORT, 'no"+strings.ReplaceAll(quoted, "\n", " ")+"'); END")
	both("import")
	p.sql("target", "DROP TRIGGER no; CREATE TRIGGER other AFTER UPDATE OF name ON items BEGIN UPDATE items SET name = name || '"+quoted+"' WHERE id = NEW.id; END")
	both("import", "--rehearse")
	p.sql("target", "DROP TRIGGER other")
	both("import", "--into-files", "load"+"\x1b[2J\nFORGED", "--form", "sql")
	both("import")
	both("history")
	both("history", "2")
	both("decide", "--from", "no"+hostile)
	both("pair", "item/"+hostile, "item/B")
	both("review", "--print", "--only", hostile)
	both("approve", hostile)
	both("export", hostile)
	both("parcel", "show", hostile)
	both(hostile)
	p.write("anagram.yaml", "environments:\n  \"x\\e[2J\\nFORGED\": {connect: \"sqlite:source.db\"}\n")
	both("status")
	both("env", "test")
	p.write("anagram.yaml", "environments:\n  x: {"+strings.ReplaceAll(hostile, "\n", " ")+"}\n")
	both("status")
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [\"code\\e[2J\\nFORGED\"]}\n")
	both("catalog", "check")
	p.write("parcels/bad.parcel", hostile)
	p.write("dockets/0009.docket", hostile)
	both("parcel", "list")
	both("status")
	both("history", "9")
	assert.GreaterOrEqual(t, ran, 80)
}
