package test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is taken back is what was stored, to the byte and as the engine stores it, with internal ids
// inside as well; and where the ids are others by now, the references are right.
func TestWhatHasReferencesInsideComesBackAsStored(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		for _, kind := range map[string][]string{"sqlite": {"TEXT"}, "postgres": {"json", "jsonb", "text"}, "mysql": {"JSON", "longtext"}}[engine] {
			t.Run(engine+" "+kind, func(t *testing.T) {
				t.Parallel()
				p, source, target := pair(t, engine, "types:\n  unit: {at: units, key: [code], id: id}\n  rule: {at: rules, key: [code], title: unit, refers: {unit: unit, doc: {to: unit, path: \"$.unit_id\"}, list: {to: unit, list: \",\"}}, as: {doc: json}}\n",
					"CREATE TABLE units (id INTEGER PRIMARY KEY, code VARCHAR(20))", "CREATE TABLE rules (code VARCHAR(20), unit INTEGER, doc "+kind+", list VARCHAR(40))")
				const odd = "'{ \"z\" : 1.50 ,\n\t\"unit_id\":7, \"a\": [1,  2] }'"
				run(t, source, "INSERT INTO units VALUES (1, 'm')", "INSERT INTO rules VALUES ('R', 1, '{\"unit_id\": 1, \"a\": [3]}', '1')")
				run(t, target, "INSERT INTO units VALUES (7, 'm')", "INSERT INTO rules VALUES ('R', 7, "+odd+", ' 7 , 7')")
				cast := map[string]string{"postgres": "doc::text", "mysql": "CAST(doc AS CHAR)", "sqlite": "doc"}[engine]
				stored := func() []string { return lines(t, target, "SELECT code, unit, "+cast+", list FROM rules") }
				before := stored()
				p.must(3, "match", "source", "--against", "target")
				assert.Equal(t, "unit/m", p.review()["rule/R"].Title, "a reference as title is an address")
				p.must(0, "approve", "*")
				p.must(0, "import")
				require.NotEqual(t, before, stored())
				p.must(3, "restore", "1")
				p.must(0, "approve", "*")
				p.must(0, "import")
				assert.Equal(t, before, stored())

				// The unit has another id by now: what is taken back refers to it all the same.
				p.must(3, "match", "source", "--against", "target")
				p.must(0, "approve", "*", "--again", "--take", "source")
				p.must(0, "import")
				run(t, target, "UPDATE units SET id = 8", "UPDATE rules SET unit = 8, list = '8', doc = '{\"unit_id\": 8, \"a\": [3]}'")
				p.must(3, "restore", fmt.Sprint(docketsIn(p)))
				p.must(0, "approve", "*")
				p.must(0, "import")
				assert.Contains(t, stored()[0], "8")
				assert.NotContains(t, stored()[0], "7")
			})
		}
	}
}
