package test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/demo/service"
)

// References that a service only navigates along are read and written all the same, also where
// it drops what is bound.
func TestReferencesByNavigationAlone(t *testing.T) {
	t.Parallel()
	inGate(t, "services on the web in many variants")
	for name, o := range map[string]service.Options{"bound": {NavOnly: true}, "bindings are dropped": {NavOnly: true, Ignores: []string{"bind"}}, "one by one": {NavOnly: true, NoBatch: true}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, manyCatalog, manyTables+manyItems(1, 12, 0, "new")+"UPDATE items SET next = id + 1 WHERE id < 12;", manyTables+manyItems(4, 9, 100, "new")+"UPDATE items SET next = 109 WHERE id = 105;")
			toService(p, o)
			before := p.rows("target", manyRows)
			p.must(3, "match", "source", "--against", "target")
			assert.Equal(t, "changed", p.review()["item/I0000005"].Status)
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, p.rows("source", manyRows), p.rows("target", manyRows))
			p.must(0, "match", "source", "--against", "target")
			p.must(3, "restore", "1")
			docket := fmt.Sprint(docketsIn(p))
			p.must(0, "approve", docket, "*", "--take", "source")
			p.must(0, "import", docket)
			assert.Equal(t, before, p.rows("target", manyRows))
		})
	}
}

// Links between many and many are records of their own, also where a service expands only the
// first of them.
func TestLinksOfAService(t *testing.T) {
	t.Parallel()
	inGate(t, "services on the web in many variants")
	const tables = `CREATE TABLE people (id INTEGER PRIMARY KEY, name VARCHAR(20) UNIQUE);
		CREATE TABLE teams (id INTEGER PRIMARY KEY, name VARCHAR(20) UNIQUE);
		CREATE TABLE in_team (team INTEGER NOT NULL REFERENCES teams (id), person INTEGER NOT NULL REFERENCES people (id), PRIMARY KEY (team, person));`
	for name, o := range map[string]service.Options{"expanded": {Page: 2}, "expanded to the first": {Ignores: []string{"expanded rows"}}, "not expanded": {Ignores: []string{"expand"}}, "one by one": {NoBatch: true}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, "types: {}\n", tables+"INSERT INTO people VALUES (1,'a'),(2,'b'),(3,'c'); INSERT INTO teams VALUES (1,'x'),(2,'y'),(3,'z'); INSERT INTO in_team VALUES (1,1),(2,1),(3,1),(1,2),(3,3);",
				tables+"INSERT INTO people VALUES (11,'a'),(12,'b'); INSERT INTO teams VALUES (21,'x'),(22,'y'),(23,'z'); INSERT INTO in_team VALUES (21,11),(23,12);")
			toService(p, o)
			p.sql("source", "CREATE VIEW links AS SELECT team AS from_id, person AS to_id FROM in_team")
			p.write("catalog.yaml", `types:
  person: {at: people, key: [name], id: id}
  team: {at: teams, key: [name], id: id}
  in_team: {at: {source: links, target: teams/people_linked}, key: [from_id, to_id], refers: {from_id: team, to_id: person}, part_of: team}
`)
			const rows = "SELECT p.name || t.name FROM in_team i JOIN people p ON p.id = i.person JOIN teams t ON t.id = i.team ORDER BY 1"
			before := p.rows("target", rows)
			p.must(3, "match", "source", "--against", "target")
			found := p.review()
			assert.Equal(t, "target-only", found["in_team/z/b"].Status)
			assert.Equal(t, "new", found["in_team/y/a"].Status)
			p.must(0, "approve", "*", "--status", "new")
			p.must(0, "import")
			assert.Equal(t, []string{"ax", "ay", "az", "bx", "bz", "cz"}, p.rows("target", rows))
			p.must(3, "restore", "1")
			docket := fmt.Sprint(docketsIn(p))
			p.must(0, "approve", docket, "*", "--take", "source")
			p.must(0, "import", docket)
			assert.Equal(t, before, p.rows("target", rows))
		})
	}
}
