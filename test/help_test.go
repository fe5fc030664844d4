package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var commandLine = regexp.MustCompile(`(?m)^  ([a-z]+) {2,}\S`)

// commands lists every command of the program, by asking it.
func commands(p *place, path ...string) [][]string {
	var out [][]string
	text := p.must(0, append(path, "--help")...).out
	for _, found := range commandLine.FindAllStringSubmatch(text, -1) {
		if found[1] == "help" || found[1] == "completion" {
			continue
		}
		sub := append(append([]string{}, path...), found[1])
		out = append(out, sub)
		out = append(out, commands(p, sub...)...)
	}
	return out
}

func TestEveryCommandExplainsItself(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	all := commands(p)
	assert.GreaterOrEqual(t, len(all), 22)
	for _, path := range all {
		text := p.must(0, append(path, "--help")...).out
		assert.NotEmpty(t, strings.TrimSpace(text))
		name := "anagram " + strings.Join(path, " ")
		assert.Contains(t, text, name, "usage")
		for _, line := range strings.Split(text, "\n") {
			assert.LessOrEqual(t, len([]rune(line)), 110, "%s: %s", name, line)
			// Every option that an example uses is one that the command has.
			if !strings.HasPrefix(line, "  "+name) {
				continue
			}
			for _, option := range regexp.MustCompile(`--[a-z-]+`).FindAllString(line, -1) {
				assert.Contains(t, text, "\n      "+option, "%s shows %s", name, option)
			}
		}
	}
}

var demoOnce struct {
	sync.Mutex
	told string
	dir  string // where it was kept
}

// toldDemo is what the demo prints, which is shown once for all tests that read it, and kept
// for the one that goes on with it.
func toldDemo(t *testing.T) string {
	t.Helper()
	demoOnce.Lock()
	defer demoOnce.Unlock()
	if demoOnce.told == "" {
		p := &place{t: t, dir: filepath.Join(scratch, "demo"), user: "somebody"}
		require.NoError(t, os.Mkdir(p.dir, 0o700))
		r := p.must(0, "demo", "--keep", "kept")
		assert.Empty(t, r.err)
		demoOnce.told, demoOnce.dir = r.out, p.dir
	}
	return demoOnce.told
}

// Words that are not Anagram's own stand nowhere where a person can read them.
func TestTheWordsOfTheProgram(t *testing.T) {
	t.Parallel()
	inGate(t, "every command for its words")
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	said := p.must(0, "--help").out + toldDemo(t)
	for _, path := range commands(p) {
		said += p.must(0, append(path, "--help")...).out
	}
	for _, word := range []string{"plan", "apply", "diff", "merge", "commit", "sync", "deploy", "dump", "snapshot", "artifact", "changeset", "upsert"} {
		assert.NotRegexp(t, `(?i)\b`+word+`\b`, said)
	}
}

func TestTheLibrary(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	assert.Contains(t, p.must(0, "parcel", "list").out, "The library is empty.")
	p.must(0, "export", "source", "--name", "first", "--note", "the first one")
	p.must(0, "export", "source", "--name", "second", "--as-folder", "--type", "unit")
	list := p.json(0, "parcel", "list")["parcels"].([]any)
	require.Len(t, list, 2)
	newest := list[0].(map[string]any)
	assert.Equal(t, []any{"second", "source", "mara", 2.0}, []any{newest["parcel"], newest["source"], newest["exported_by"], newest["records"]})
	text := p.must(0, "parcel", "list").out
	assert.Regexp(t, `first\s+source\s+\d{4}-\d\d-\d\d \d\d:\d\d UTC\s+mara\s+4\s+\d+(\.\d)? k?B\s+the first one`, text)
	shown := p.must(0, "parcel", "show", "first").out
	for _, want := range []string{"parcel     first", "note       the first one", "selection  everything in the catalog", "unit               2", "assay              2"} {
		assert.Contains(t, shown, want)
	}
	record := p.must(0, "parcel", "show", "first", "assay/GLU").out
	assert.Equal(t, "assay/GLU\n  day      2026-01-01\n  low      1.5\n  unit_id  unit/mg\n", record)
	assert.Contains(t, p.json(0, "parcel", "show", "first", "assay/GLU")["record"], "values")
	p.refused("No record in parcel first fits assay/X", "parcel", "show", "first", "assay/X")
	assert.Contains(t, p.must(0, "parcel", "verify", "first").out, "Parcel first is whole: 4 records, 0 attachments, every byte as sealed.")
	// A path works as well as a name, and a broken parcel does not hide the others.
	p.must(0, "parcel", "verify", p.path("parcels/first.parcel"))
	p.write("parcels/broken.parcel", "not a parcel")
	r := p.must(0, "parcel", "list")
	assert.Contains(t, r.out, "second")
	assert.Contains(t, words(r.out), "broken cannot be read")
	assert.Contains(t, words(r.out), "a parcel is a ZIP file or a folder")
	status := p.must(0, "status").out
	assert.Contains(t, status, "dockets       none")
	assert.Contains(t, status, "environments  source, target")
}
