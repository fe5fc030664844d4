// Package browser shows what the program writes for people in the programs that they open it
// with: a page in a browser, a workbook in an office program. It is a module of its own, so
// that nobody compiles what drives a browser who does not run these tests.
package browser

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// program is the path of the built program.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "anagram-browser-")
	if err == nil {
		program = filepath.Join(dir, "anagram")
		var out []byte
		build := exec.Command("go", "build", "-C", "../..", "-o", program, "./cmd/anagram")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err = build.CombinedOutput(); err != nil {
			err = fmt.Errorf("building the program: %w\n%s", err, out)
		}
	}
	code := 1
	if err == nil {
		code = m.Run()
	} else {
		fmt.Fprintln(os.Stderr, err)
	}
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// place is a workspace of a test.
type place struct {
	t   *testing.T
	dir string
}

// result is what a run of the program printed, on standard output and on standard error.
type result struct{ out, said string }

// finding is what these tests ask of a line of review --json.
type finding struct {
	Address, Decision, Note string
	DecidedBy               string `json:"decided_by"`
	Comments                []struct{ Text string }
	Fields                  []struct{ Field, Decision string }
}

func newPlace(t *testing.T, catalog, source, target string) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir()}
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n")
	p.write("catalog.yaml", catalog)
	for name, statements := range map[string]string{"source.db": source, "target.db": target} {
		db, err := sql.Open("sqlite", "file:"+p.path(name))
		require.NoError(t, err)
		_, err = db.Exec(statements)
		require.NoError(t, errors.Join(err, db.Close()))
	}
	return p
}

// lab is a workspace in which something is new with parts and with what waits for it, changed,
// removed, renamed and missing.
func lab(t *testing.T) *place {
	t.Helper()
	file := func(name string) string {
		text, err := os.ReadFile(filepath.Join("..", "testdata", "lab", name))
		require.NoError(t, err)
		return string(text)
	}
	p := newPlace(t, file("catalog.yaml"), file("source.sql"), file("target.sql"))
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	return p
}

func (p *place) path(name string) string { return filepath.Join(p.dir, name) }

func (p *place) write(name, text string) {
	p.t.Helper()
	require.NoError(p.t, os.WriteFile(p.path(name), []byte(text), 0o600))
}

// must runs the program as mara and expects an exit code.
func (p *place) must(code int, args ...string) result {
	p.t.Helper()
	return p.as("mara", code, args...)
}

// as is must for somebody else.
func (p *place) as(user string, code int, args ...string) result {
	p.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "ANAGRAM_USER="+user, "XDG_CONFIG_HOME="+p.path("config"))
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	if exit := new(exec.ExitError); !errors.As(err, &exit) {
		require.NoError(p.t, err)
	}
	require.Equal(p.t, code, cmd.ProcessState.ExitCode(), "anagram %s\n%s%s", strings.Join(args, " "), out.String(), said.String())
	return result{out.String(), said.String()}
}

// review gives the findings of the newest docket by address.
func (p *place) review() map[string]finding {
	p.t.Helper()
	out := map[string]finding{}
	for line := range strings.Lines(p.must(0, "review", "--json").out) {
		var f finding
		require.NoError(p.t, json.Unmarshal([]byte(line), &f), line)
		out[f.Address] = f
	}
	return out
}

func words(text string) string { return strings.Join(strings.Fields(text), " ") }

// tool finds a program of somebody else's that a test needs; without it the test is skipped,
// but not where that is forbidden.
func tool(t *testing.T, names ...string) string {
	t.Helper()
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
		t.Fatalf("%s is not there", names[0])
	}
	t.Skipf("%s is not there", names[0])
	return ""
}
