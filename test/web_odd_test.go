package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/demo/service"
)

// Keys and values of every look go into addresses, filters and JSON and come back the same.
func TestOddKeysAndValuesOverTheWeb(t *testing.T) {
	t.Parallel()
	inGate(t, "services on the web in many variants")
	odd := []string{"plain", "it's", "''", "a/b", "a%2Fb", "100%", "a b", " lead", "trail ", "a+b", "a=b", "a,b", "(a)", "a)", "a?b#c", "a:b", "a&b", "é", "o\u0308", "Ж", "日本", "😀", "a\\b", "\"q\"", "~", ".", "..", "null", "a;b", "$it", "*",
		"x' or '1' eq '1", strings.Repeat("long ", 20), "tab\tin", "<b>", "{json}", "[1]", "@odata.bind"}
	for name, o := range map[string]service.Options{"batches": {Page: 7}, "one by one": {NoBatch: true}} {
		if !thorough && name != "batches" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			const tables = "CREATE TABLE settings (code VARCHAR(200) PRIMARY KEY, value VARCHAR(400)); CREATE TABLE uses (setting VARCHAR(200) NOT NULL REFERENCES settings (code), n INTEGER NOT NULL, note VARCHAR(200), PRIMARY KEY (setting, n));"
			p := newPlace(t, "types:\n  setting: {at: settings, key: [code]}\n  use: {at: uses, key: [setting, n], refers: {setting: {to: setting, by: key}}, part_of: setting}\n", tables, tables)
			var rows, uses, old []string
			for i, text := range odd {
				quoted := "'" + strings.ReplaceAll(text, "'", "''") + "'"
				rows = append(rows, fmt.Sprintf("(%s, %s)", quoted, quoted))
				uses = append(uses, fmt.Sprintf("(%s, %d, %s)", quoted, i, quoted))
				if i%2 == 0 {
					old = append(old, fmt.Sprintf("(%s, 'old')", quoted))
				}
			}
			p.sql("source", "INSERT INTO settings VALUES "+strings.Join(rows, ", ")+"; INSERT INTO uses VALUES "+strings.Join(uses, ", "))
			p.sql("target", "INSERT INTO settings VALUES "+strings.Join(old, ", "))
			toService(p, o)
			const all = "SELECT s.code, value, n, note FROM settings s LEFT JOIN uses u ON u.setting = s.code ORDER BY 1"
			before := p.rows("target", all)
			r := p.must(3, "match", "source", "--against", "target")
			assert.NotContains(t, r.out, "ambiguous")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, p.rows("source", all), p.rows("target", all))
			p.must(0, "match", "source", "--against", "target")
			p.must(0, "match", "target", "--against", "source")
			p.must(3, "restore", "1")
			docket := fmt.Sprint(docketsIn(p))
			p.must(0, "approve", docket, "*", "--take", "source")
			p.must(0, "import", docket)
			assert.Equal(t, before, p.rows("target", all))
		})
	}
}

// A property that is given when a record is made stands in the way of a change to it, and of
// nothing else; what the message offers works.
func TestAPropertyThatIsGivenOnce(t *testing.T) {
	t.Parallel()
	const tables = "CREATE TABLE units (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE); INSERT INTO units VALUES (1,'g'),(2,'l');" +
		"CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE, kind VARCHAR(9), unit_id INTEGER REFERENCES units (id), name VARCHAR(40));"
	p := newPlace(t, "types:\n  unit: {at: units, key: [code], id: id}\n  item: {at: items, key: [code], id: id, refers: {unit_id: unit}}\n",
		tables+"INSERT INTO items VALUES (1,'A','x',1,'new'),(2,'B','x',2,'new'),(3,'C','x',1,'new'),(4,'N','x',2,'new')", tables+"INSERT INTO items VALUES (5,'A','y',1,'old'),(6,'B','x',1,'old'),(7,'C','x',1,'old')")
	toService(p, service.Options{Once: []string{"items.kind", "items.unit_id"}})
	p.must(3, "match", "source", "--against", "target")
	refused := p.must(0, "approve", "*")
	assert.Contains(t, words(refused.out+refused.err), "item/A: field kind is given in target when a record is made, and cannot be changed after.")
	assert.Contains(t, words(refused.out+refused.err), "item/B: field unit_id is given in target")
	p.must(0, "decline", "item/A", "--field", "kind")
	p.must(0, "decline", "item/B", "--field", "unit_id")
	p.must(0, "import")
	assert.Equal(t, []string{"A y 1 new", "B x 1 new", "C x 1 new", "N x 2 new"}, p.rows("target", "SELECT code, kind, unit_id, name FROM items ORDER BY 1"))
}
