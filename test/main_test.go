// Package test drives the program on files in temporary folders, as a person or a pipeline
// does: through its command line within this process, or as the built program where
// ANAGRAM_TEST_BUILT is set. What needs a process of its own gets one by both doors.
package test

import (
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"anagram/internal/tests"
)

// longRun says that what is long by nature is done as well, and in full: make long.
var longRun = tests.Long()

// full chooses how much of what is long by nature is done: all of it in the long run, else
// enough to notice what is wrong.
func full(some, all int) int {
	if longRun {
		return all
	}
	return some
}

// thorough says that each case is tried on every engine and in every variant, as in the gate
// and in the long run, and not on one of them, which is another one from case to case.
var thorough = tests.Thorough()

// tries chooses among engines, or among variants, for a case, by its name.
func tries[T any](name string, all ...T) []T {
	if thorough {
		return all
	}
	sum := fnv.New32a()
	_, _ = sum.Write([]byte(name))
	at := int(sum.Sum32() % uint32(len(all)))
	return all[at : at+1]
}

// skips reports whether one of many cases of the same kind is left out: each third is tried, or
// all of them.
func skips(i int) bool { return !thorough && i%3 != 0 }

// inGate leaves a test to the gate, which is thorough: one that takes seconds, and of whose kind
// others are tried here.
func inGate(t *testing.T, why string) {
	t.Helper()
	if !thorough {
		t.Skip("left to the gate (ANAGRAM_TEST_THOROUGH): " + why)
	}
}

// inLongRun leaves a test to the long run: one of volume, of time, or of many servers.
func inLongRun(t *testing.T, why string) {
	t.Helper()
	if !longRun {
		t.Skip("left to the long run (make long): " + why)
	}
}

// place is a workspace of a test.
type place struct {
	t    *testing.T
	dir  string
	user string
	env  []string // variables beside those of the process, NAME=value
	// alone says that every run has a process of its own, as it is what the test is about.
	alone bool
	hurry int    // see cli.Streams; without effect on the built program
	sum   string // digest of docket 1, once it was asked for
}

// newPlace makes a workspace with two databases, source and target, and a catalog.
func newPlace(t *testing.T, catalog, source, target string) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n")
	p.write("catalog.yaml", catalog)
	p.sql("source", source)
	p.sql("target", target)
	return p
}

func (p *place) path(name string) string { return filepath.Join(p.dir, name) }

// uri is where a database is, whatever the folder is called.
func (p *place) uri(name string) string {
	return "file:" + strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(p.path(name+".db"))
}

func (p *place) write(name, text string) {
	p.t.Helper()
	require.NoError(p.t, os.MkdirAll(filepath.Dir(p.path(name)), 0o755))
	require.NoError(p.t, os.WriteFile(p.path(name), []byte(text), 0o600))
}

func (p *place) read(name string) []byte {
	p.t.Helper()
	text, err := os.ReadFile(p.path(name))
	require.NoError(p.t, err)
	return text
}

// sql runs statements in a database, which is made where it is not there.
func (p *place) sql(name, statements string) {
	p.t.Helper()
	db, err := sql.Open("sqlite", p.uri(name)+"?_pragma=foreign_keys(1)&_pragma=synchronous(0)")
	require.NoError(p.t, err)
	defer db.Close()
	_, err = db.Exec(statements)
	require.NoError(p.t, err)
}

// rows gives the result of a query, a line a row, columns separated by blanks.
func (p *place) rows(name, query string) []string {
	p.t.Helper()
	return p.rowsOf(p.uri(name), query)
}

// rowsOf is rows of a file by its URI.
func (p *place) rowsOf(uri, query string) []string {
	p.t.Helper()
	db, err := sql.Open("sqlite", uri+"?mode=ro")
	require.NoError(p.t, err)
	defer db.Close()
	rows, err := db.Query(query)
	require.NoError(p.t, err)
	defer rows.Close()
	columns, err := rows.Columns()
	require.NoError(p.t, err)
	out := []string{}
	for rows.Next() {
		values := make([]sql.NullString, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		require.NoError(p.t, rows.Scan(into...))
		words := make([]string, len(values))
		for i, v := range values {
			if words[i] = v.String; !v.Valid {
				words[i] = "null"
			}
		}
		out = append(out, strings.Join(words, " "))
	}
	require.NoError(p.t, rows.Err())
	return out
}

// config is the person's own configuration folder, beside the workspace.
func (p *place) config() string {
	dir := p.dir + "-config-of-" + strings.Map(func(r rune) rune {
		if r < 'a' || r > 'z' {
			return -1
		}
		return r
	}, p.user)
	p.t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// trust says that the person trusts the workspace.
func (p *place) trust() {
	p.t.Helper()
	var fingerprint string
	for word := range strings.FieldsSeq(p.run("trust").err) {
		if len(word) == 32 {
			fingerprint = word
		}
	}
	if fingerprint != "" {
		p.must(0, "trust", "--fingerprint", fingerprint)
	}
}

// must runs the program and expects an exit code.
// matched is the exit code of a match, whether it found differences or not.
const matched = 3 | 1<<16

func (p *place) must(code int, args ...string) result {
	p.t.Helper()
	r := p.run(args...)
	if code == matched {
		require.Contains(p.t, []int{0, 3}, r.code, "anagram %s\n%s%s", strings.Join(args, " "), r.out, r.err)
		return r
	}
	require.Equal(p.t, code, r.code, "anagram %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	return r
}

// json runs the program with --json, expects an exit code and reads the document.
func (p *place) json(code int, args ...string) map[string]any {
	p.t.Helper()
	r := p.must(code, append(args, "--json")...)
	var doc map[string]any
	require.NoError(p.t, json.Unmarshal([]byte(r.out), &doc), r.out)
	return doc
}

// finding is a line of review --json.
type finding struct {
	Title                           string
	Address, Type, Status, Decision string
	Reasons                         []string
	DecidedBy                       string `json:"decided_by"`
	Carried                         int    `json:"carried_from"`
	Note                            string
	Was                             string `json:"target_address"`
	Fields                          []shownField
	Checks                          []struct{ Code, Level, Message, Mend string }
	Group                           string
	Approvers                       []string
	ByRule                          bool `json:"by_rule"`
	Comments                        []struct{ By, At, Text, To string }
	Stands                          string
	Needs                           int
	Changed                         []changed
	Decisions                       []struct {
		By, Decision, Field, At, Note string
		OverruledBy                   string `json:"overruled_by"`
	}
}

type changed struct {
	Environment, At, Zone, By string
	Docket                    int
}

type shownField struct {
	Field          string
	Source, Target *string
	Agreed         *string
	Moved          string
	Decision       string
}

// review gives the findings of the newest docket by address.
func (p *place) review(args ...string) map[string]finding {
	p.t.Helper()
	out := map[string]finding{}
	for line := range strings.Lines(p.must(0, append([]string{"review", "--json"}, args...)...).out) {
		f := readFinding(p.t, line)
		out[f.Address] = f
	}
	return out
}

func readFinding(t *testing.T, line string) finding {
	t.Helper()
	var f finding
	require.NoError(t, json.Unmarshal([]byte(line), &f), line)
	return f
}

// totals gives the counts of a match --json that are not zero, without those same.
func totals(doc map[string]any) map[string]int {
	out := map[string]int{}
	for name, n := range doc["totals"].(map[string]any) {
		if n.(float64) != 0 && name != "same" {
			out[name] = int(n.(float64))
		}
	}
	return out
}

// refused runs the program with bad input: it must fail with 1 or 2, say why in words,
// and leave the workspace's files and the target as they were.
func (p *place) refused(why string, args ...string) {
	p.t.Helper()
	before := p.files()
	r := p.run(args...)
	assert.Contains(p.t, []int{1, 2}, r.code, "anagram %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	assert.Contains(p.t, words(r.err), why, "anagram %s", strings.Join(args, " "))
	assert.NotContains(p.t, r.err, "goroutine", "no stack traces")
	assert.Equal(p.t, before, p.files(), "nothing is half-written by anagram %s", strings.Join(args, " "))
}

// files gives the content of every file of the workspace by name, but for the register,
// which every command may bring up to date.
func (p *place) files() map[string]string {
	p.t.Helper()
	out := map[string]string{}
	require.NoError(p.t, filepath.WalkDir(p.dir, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || entry.Name() == "register.jsonl" {
			return err
		}
		text, err := os.ReadFile(path)
		name, _ := filepath.Rel(p.dir, path)
		if out[name] = string(text); !utf8.Valid(text) {
			out[name] = fmt.Sprintf("%x", sha256.Sum256(text))
		}
		return err
	}))
	return out
}

// lock holds a write lock on a database until the function it gives is called.
func (p *place) lock(name string) func() {
	p.t.Helper()
	db, err := sql.Open("sqlite", p.uri(name))
	require.NoError(p.t, err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec("BEGIN EXCLUSIVE")
	require.NoError(p.t, err)
	return func() {
		_, err := db.Exec("ROLLBACK")
		require.NoError(p.t, err)
		require.NoError(p.t, db.Close())
	}
}

// words gives a text without its line breaks, which depend on the width.
func words(text string) string { return strings.Join(strings.Fields(text), " ") }
