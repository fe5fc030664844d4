package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func inFolder(t *testing.T, text string) (*Workspace, error) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ConfigName), []byte(text), 0o600))
	return Open(dir)
}

var now = time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)

const twoOf = "environments:\n  sandbox: {connect: \"sqlite:s.db\"%}\n  production: {connect: \"sqlite:p.db\"}\n"

func TestWhatAnEnvironmentIsACopyOf(t *testing.T) {
	for said, want := range map[string]string{
		"made_from: {environment: production, on: 2026-10-01}":                                         "2026-10-01T23:59:59.999999Z",
		"zone: Europe/Berlin, made_from: {environment: production, on: 2026-10-01}":                    "2026-10-01T21:59:59.999999Z",
		"made_from: {environment: production, on: \"2026-10-01T06:00:00+02:00\"}":                      "2026-10-01T04:00:00Z",
		"zone: America/New_York, made_from: {environment: production, on: \"2026-10-01T06:00:00.5Z\"}": "2026-10-01T06:00:00.5Z",
	} {
		w, err := inFolder(t, strings.Replace(twoOf, "%", ", "+said, 1))
		require.NoError(t, err, said)
		for _, pair := range [][2]string{{"sandbox", "production"}, {"production", "sandbox"}} {
			of, ok := w.CopiedAt(pair[0], pair[1])
			assert.True(t, ok)
			assert.Equal(t, want, of.At.UTC().Format(time.RFC3339Nano), said)
		}
		_, ok := w.CopiedAt("sandbox", "elsewhere")
		assert.False(t, ok)
	}
	for said, want := range map[string]string{
		"made_from: {environment: production}":                 "is neither a date",
		"made_from: {environment: production, on: yesterday}":  "is neither a date",
		"made_from: {environment: sandbox, on: 2026-10-01}":    "names no other environment",
		"made_from: {on: 2026-10-01}":                          "names no other environment",
		"made_from: {environment: producton, on: 2026-10-01}":  `"production"`,
		"made_from: {environment: production, at: 2026-10-01}": "at",
		"made_from: production":                                "mapping is expected",
	} {
		_, err := inFolder(t, strings.Replace(twoOf, "%", ", "+said, 1))
		assert.ErrorContains(t, err, want, said)
	}
}

// What is written is meant, and nothing else of the file changes.
func TestMadeFromIsWritten(t *testing.T) {
	const line = "made_from: {environment: production, on: 2026-10-01}"
	for what, c := range map[string]struct{ text, want string }{
		"on one line": {strings.Replace(twoOf, "%", "", 1), strings.Replace(twoOf, "%", ", "+line, 1)},
		"on one line, with another one": {strings.Replace(twoOf, "%", ", made_from: {environment: production, on: 2020-01-01}, zone: UTC", 1),
			strings.Replace(twoOf, "%", ", zone: UTC, "+line, 1)},
		"on lines of its own": {"# top\nenvironments:\n  sandbox: # mine\n    connect: sqlite:s.db # here\n\n  production:\n    connect: sqlite:p.db\nmust_agree: [a/b]\n",
			"# top\nenvironments:\n  sandbox: # mine\n    " + line + "\n    connect: sqlite:s.db # here\n\n  production:\n    connect: sqlite:p.db\nmust_agree: [a/b]\n"},
		"on lines, with another one": {"environments:\n  production: {connect: sqlite:p.db}\n  \"sandbox\":\n      connect: sqlite:s.db\n      made_from: {environment: production, on: 2020-01-01}\n",
			"environments:\n  production: {connect: sqlite:p.db}\n  \"sandbox\":\n      " + line + "\n      connect: sqlite:s.db\n"},
	} {
		w, err := inFolder(t, c.text)
		require.NoError(t, err, what)
		at, err := w.SetMadeFrom("sandbox", "production", "2026-10-01", now)
		require.NoError(t, err, what)
		assert.Equal(t, "2026-10-01T23:59:59Z", at.Format(time.RFC3339), what)
		text, err := os.ReadFile(filepath.Join(w.Dir, ConfigName))
		require.NoError(t, err)
		assert.Equal(t, c.want, string(text), what)
		_, ok := w.CopiedAt("production", "sandbox")
		assert.True(t, ok, "and known at once")
	}
	for what, text := range map[string]string{
		"all on one line": "environments: {sandbox: {connect: \"sqlite:s.db\"}, production: {connect: \"sqlite:p.db\"}}\n",
		"over several":    "environments:\n  production: {connect: \"sqlite:p.db\"}\n  sandbox: {connect: \"sqlite:s.db\",\n    zone: UTC}\n",
	} {
		w, err := inFolder(t, text)
		require.NoError(t, err, what)
		_, err = w.SetMadeFrom("sandbox", "production", "2026-10-01", now)
		assert.ErrorContains(t, err, "in a way that cannot be changed by itself; write "+line, what)
		left, err := os.ReadFile(filepath.Join(w.Dir, ConfigName))
		require.NoError(t, err)
		assert.Equal(t, text, string(left), what)
	}
	w, err := inFolder(t, strings.Replace(twoOf, "%", "", 1))
	require.NoError(t, err)
	_, err = w.SetMadeFrom("sandbox", "production", "soon", now)
	assert.ErrorContains(t, err, "is neither a date")
	_, err = w.SetMadeFrom("sandbox", "production", "2026-12-02", now)
	assert.ErrorContains(t, err, "which is still to come")
	_, err = w.SetMadeFrom("sandbox", "production", "2026-12-01", now)
	assert.NoError(t, err, "a date means its end")
}
