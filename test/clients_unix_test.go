//go:build unix

package test

import (
	"database/sql"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostileTexts are what a literal has to hold, whatever the client that reads it is set to.
var hostileTexts = []string{
	`it's`, `back\slash`, `\`, `\'; DROP TABLE items; --`, `''`, `"x"`, "`x`", "a\r\nb", "\n.shell touch owned\n", "\ndelimiter //\n", "\n\\! touch owned\n", "\\gexec", ":x :'x' :\"x\"", "$$ $x$", "é ö 日本 😀",
	"/* x */ -- y # z", "tab\there", "\x1a", "\x7f", "a;b", "?", "%s", "\u00a0", "縗\\", "\xe8\x3f"[:1] + "\x80\x80",
}

// The scripts for others run in each engine's own client, whatever that is set to, and store
// exactly the texts.
func TestScriptsInTheEnginesOwnClients(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code VARCHAR(90) PRIMARY KEY, name VARCHAR(90), due "+map[string]string{"sqlite": "TIMESTAMP WITH TIME ZONE", "postgres": "timestamptz", "mysql": "timestamp NULL"}[engine]+")")
			texts := hostileTexts
			if engine == "sqlite" {
				texts = append(texts, "nul\x00inside")
			}
			place := map[string]string{"postgres": "$1, $2, '2026-07-01 10:00:00+00'", "mysql": "?, ?, '2026-07-01 10:00:00'", "sqlite": "?, ?, '2026-07-01T10:00:00Z'"}[engine]
			for _, text := range texts {
				_, err := source.Exec("INSERT INTO items VALUES ("+place+")", "k"+text, text)
				require.NoError(t, err, "%q", text)
			}
			old := strings.Replace(place, "07-01", "06-01", 1)
			_, err := target.Exec("INSERT INTO items VALUES ("+old+")", "k"+texts[0], "old")
			require.NoError(t, err)
			p.user = "mara; DROP TABLE items; --\r"
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import", "--into-files", "load", "--form", "sql")
			script, err := os.Open(p.path("load/load.sql"))
			require.NoError(t, err)
			defer script.Close()
			cmd := client(t, p, engine, target)
			cmd.Stdin, cmd.Dir = script, p.dir
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			assert.NoFileExists(t, p.path("owned"))
			assert.Empty(t, totals(p.json(0, "match", "p", "--against", "target")), "every text and time is as it was")
			// A second time it stops, as the records are not as it expects.
			again, err := os.Open(p.path("load/load.sql"))
			require.NoError(t, err)
			defer again.Close()
			cmd = client(t, p, engine, target)
			cmd.Stdin, cmd.Dir = again, p.dir
			_, err = cmd.CombinedOutput()
			assert.Error(t, err)
		})
	}
}

// client is the engine's own command line, set as badly as can be.
func client(t *testing.T, p *place, engine string, db *sql.DB) *exec.Cmd {
	t.Helper()
	config := string(p.read("anagram.yaml"))
	_, address, _ := strings.Cut(config, "target: {connect: \"")
	address, _, _ = strings.Cut(address, "\"")
	name := map[string]string{"postgres": "psql", "mysql": "mysql", "sqlite": "sqlite3"}[engine]
	if _, err := exec.LookPath(name); err != nil {
		if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
			require.NoError(t, err)
		}
		t.Skip("the client " + name + " is not there")
	}
	switch engine {
	case "postgres":
		cmd := exec.Command(name, "-X", "-q", "-v", "ON_ERROR_STOP=1", "-v", "x=owned", address)
		cmd.Env = append(os.Environ(), "PGCLIENTENCODING=LATIN1", "PGOPTIONS=-c standard_conforming_strings=off -c DateStyle=German -c TimeZone=Asia/Tokyo -c escape_string_warning=off")
		return cmd
	case "mysql":
		u, err := url.Parse(address)
		require.NoError(t, err)
		return exec.Command(name, "--no-defaults", "-h", u.Hostname(), "-P", u.Port(), "-u", u.User.Username(), "--default-character-set=gbk", "--init-command=SET sql_mode='NO_BACKSLASH_ESCAPES,ANSI_QUOTES', time_zone='+09:00', character_set_client=latin1", strings.TrimPrefix(u.Path, "/"))
	}
	return exec.Command(name, "-bail", p.path("target.db"))
}
