package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// TestScripts runs test/scripts/*.txt. A script is a text archive: first the steps, then
// the files that the workspace begins with. source.sql and target.sql make the databases
// of the environments source and target. A step is a line "$ " and what is done, the lines
// that it prints (what goes to the screen first, then the errors), and "= " with the exit
// code where it is not 0. "..." stands for any characters, and alone in a line for any
// lines. Lines that begin with # are for the reader.
//
//	$ anagram ARG ...        runs the program; 'an argument with blanks'
//	$ as NAME                the next commands are given by NAME
//	$ in DIR                 the next commands are given in a folder of the workspace
//	$ sql DATABASE TEXT      runs statements
//	$ rows DATABASE QUERY    prints the rows
//	$ replace FILE OLD NEW   changes a file
//	$ cut FILE N             keeps the first N bytes of a file
//	$ move FILE FILE
//	$ mkdir DIR
//	$ list DIR               prints the names in a folder
func TestScripts(t *testing.T) {
	t.Parallel()
	paths, err := filepath.Glob("scripts/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txt"), func(t *testing.T) {
			t.Parallel()
			archive, err := txtar.ParseFile(path)
			require.NoError(t, err)
			runScript(t, path, archive)
		})
	}
}

// step is one command of a script with what is expected of it.
type step struct {
	line    int
	command string
	want    []string
	code    string
}

func runScript(t *testing.T, path string, archive *txtar.Archive) {
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n")
	for _, file := range archive.Files {
		if name, ok := strings.CutSuffix(file.Name, ".sql"); ok && !strings.Contains(name, "/") {
			p.sql(name, string(file.Data))
		} else {
			p.write(file.Name, string(file.Data))
		}
	}
	steps := readSteps(string(archive.Comment))
	require.NotEmpty(t, steps)
	for _, s := range steps {
		out, code := p.do(arguments(s.command))
		require.Regexp(t, pattern(s.want), out, "%s:%d: $ %s\nprinted:\n%s", path, s.line, s.command, out)
		require.Equal(t, s.code, code, "%s:%d: $ %s\nprinted:\n%s", path, s.line, s.command, out)
	}
}

func readSteps(text string) []step {
	var steps []step
	for i, line := range strings.Split(text, "\n") {
		switch command, isCommand := strings.CutPrefix(line, "$ "); {
		case isCommand:
			steps = append(steps, step{line: i + 1, command: command, code: "0"})
		case strings.HasPrefix(line, "#") || len(steps) == 0:
		case strings.HasPrefix(line, "= "):
			steps[len(steps)-1].code = line[2:]
		default:
			steps[len(steps)-1].want = append(steps[len(steps)-1].want, line)
		}
	}
	return steps
}

// arguments splits a command at blanks, except within single quotes.
func arguments(command string) []string {
	var out []string
	for i, part := range strings.Split(command, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// pattern matches what a step prints. Blank lines at the end do not count, as steps are
// set apart by them.
func pattern(want []string) *regexp.Regexp {
	text := strings.TrimRight(strings.Join(want, "\n"), "\n")
	var b strings.Builder
	for line := range strings.Lines(text + "\n") {
		if line == "...\n" {
			b.WriteString(`(?:.*\n)*?`)
			continue
		}
		b.WriteString(strings.ReplaceAll(regexp.QuoteMeta(line), `\.\.\.`, `.*`))
	}
	if text == "" {
		return regexp.MustCompile(`^\n*$`)
	}
	return regexp.MustCompile(`^` + b.String() + `$`)
}

// do carries out a step and gives what it printed and the exit code.
func (p *place) do(args []string) (string, string) {
	p.t.Helper()
	switch args[0] {
	case "anagram":
		out, code := p.together(args[1:]...)
		return strings.TrimRight(out, "\n") + "\n", fmt.Sprint(code)
	case "as":
		p.user = args[1]
	case "in":
		p.dir = filepath.Join(p.dir, args[1])
	case "sql":
		p.sql(args[1], strings.Join(args[2:], " "))
	case "rows":
		return strings.Join(p.rows(args[1], strings.Join(args[2:], " ")), "\n") + "\n", "0"
	case "replace":
		text := string(p.read(args[1]))
		require.Contains(p.t, text, args[2])
		p.write(args[1], strings.Replace(text, args[2], args[3], 1))
	case "cut":
		var n int64
		_, err := fmt.Sscan(args[2], &n)
		require.NoError(p.t, err)
		require.NoError(p.t, os.Truncate(p.path(args[1]), n))
	case "move":
		require.NoError(p.t, os.Rename(p.path(args[1]), p.path(args[2])))
	case "mkdir":
		require.NoError(p.t, os.Mkdir(p.path(args[1]), 0o755))
	case "list":
		entries, err := os.ReadDir(p.path(args[1]))
		require.NoError(p.t, err)
		var names strings.Builder
		for _, entry := range entries {
			names.WriteString(entry.Name() + "\n")
		}
		return names.String(), "0"
	default:
		require.Fail(p.t, "no such step: "+args[0])
	}
	return "", "0"
}

// A runner that accepts everything would show nothing.
func TestTheRunnerOfScriptsNoticesWhatIsWrong(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		want, got string
		same      bool
	}{
		{"one\ntwo\n\n", "one\ntwo\n", true},
		{"one\n", "one\ntwo\n", false},
		{"one\n...\n", "one\ntwo\nthree\n", true},
		{"...\nthree", "one\ntwo\nthree\n", true},
		{"o...e", "one\n", true},
		{"o...e", "one\ntwo\n", false},
		{"", "one\n", false},
		{"a.b", "axb\n", false},
	} {
		require.Equal(t, c.same, pattern(strings.Split(c.want, "\n")).MatchString(c.got), "%q %q", c.want, c.got)
	}
	steps := readSteps("# why\n$ anagram x 'a b'\nsaid\n= 2\n\n$ as bo\n")
	require.Equal(t, []step{{2, "anagram x 'a b'", []string{"said"}, "2"}, {6, "as bo", []string{""}, "0"}},
		[]step{{steps[0].line, steps[0].command, steps[0].want[:1], steps[0].code}, steps[1]})
	require.Equal(t, []string{"anagram", "x", "a b"}, arguments(steps[0].command))
}
