package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReleaseAndSettingsThatMustAgree(t *testing.T) {
	t.Parallel()
	catalog := "types:\n  setting: {at: settings, key: [code]}\n  unit: {at: units, key: [code], id: unit_id}\n"
	tables := "CREATE TABLE settings (code TEXT PRIMARY KEY, value TEXT); CREATE TABLE units (unit_id INTEGER PRIMARY KEY, code TEXT, name TEXT);"
	for _, c := range []struct {
		name, source, target, policy, release string
		code                                  int
		why                                   string
	}{
		{"equal", "8.4.1", "8.4.1", "exact", "EUR", 0, ""},
		{"patch under minor", "8.4.2", "8.4.1", "minor", "EUR", 0, ""},
		{"patch under exact", "8.4.2", "8.4.1", "exact", "EUR", 4, "release: source has release 8.4.2, target has release 8.4.1."},
		{"minor under minor", "8.5.0", "8.4.9", "minor", "EUR", 4, "release: source has release 8.5.0"},
		{"off", "9.0", "8.4.1", "off", "EUR", 0, ""},
		{"a setting that differs", "8.4.1", "8.4.1", "exact", "USD", 4, `must-agree: setting/currency has to be equal on both sides, but is "EUR" in source and is "USD" in target.`},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := newPlace(t, catalog, tables+"INSERT INTO settings VALUES ('version', '"+c.source+"'), ('currency', 'EUR'); INSERT INTO units VALUES (1, 'mg', 'new');",
				tables+"INSERT INTO settings VALUES ('version', '"+c.target+"'), ('currency', '"+c.release+"'); INSERT INTO units VALUES (7, 'mg', 'old');")
			p.write("anagram.yaml", `environments:
  source: {connect: "sqlite:source.db", release: {setting: setting/version}}
  target: {connect: "sqlite:target.db", release: {setting: setting/version}, guard: {release: `+c.policy+`}}
must_agree: [setting/currency]
`)
			checked := p.must(c.code, "catalog", "check", "source", "target")
			assert.Contains(t, words(checked.out), c.why)
			p.must(0, "export", "source", "--name", "p")
			r := p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "unit/mg")
			imported := p.must(c.code, "import")
			if c.why != "" {
				assert.Contains(t, words(r.out), "blocker "+c.why)
				assert.Contains(t, words(imported.err), c.why)
				assert.Equal(t, []string{"old"}, p.rows("target", "SELECT name FROM units"))
			} else {
				assert.Equal(t, []string{"new"}, p.rows("target", "SELECT name FROM units"))
			}
		})
	}
}
