package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Everything that references can do: three levels deep, a tree whose key refers to its
// own type, a circle of two types with one side required, a link keyed by two
// references, a key with a reference inside.
const knotCatalog = `
types:
  zone: {at: zones, key: [parent_id, name], id: id, refers: {parent_id: zone}}
  firm: {at: firms, key: [code], id: id, refers: {zone_id: zone, contact_id: person}}
  person: {at: persons, key: [firm_id, badge], id: id, refers: {firm_id: firm, boss_id: person}}
  skill: {at: skills, key: [code], id: id}
  level: {at: levels, key: [skill_id, grade], id: id, refers: {skill_id: skill}, part_of: skill}
  holds: {at: holds, key: [person_id, level_id], refers: {person_id: person, level_id: level}}
`

const knotTables = `
CREATE TABLE zones (id INTEGER PRIMARY KEY, parent_id INTEGER REFERENCES zones (id), name TEXT NOT NULL, note TEXT);
CREATE TABLE firms (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, zone_id INTEGER NOT NULL REFERENCES zones (id), contact_id INTEGER REFERENCES persons (id), name TEXT, rating DECIMAL(6,2));
CREATE TABLE persons (id INTEGER PRIMARY KEY, firm_id INTEGER NOT NULL REFERENCES firms (id), badge INTEGER NOT NULL, boss_id INTEGER REFERENCES persons (id), name TEXT, UNIQUE (firm_id, badge));
CREATE TABLE skills (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, sheet BLOB);
CREATE TABLE levels (id INTEGER PRIMARY KEY, skill_id INTEGER NOT NULL REFERENCES skills (id), grade INTEGER NOT NULL, active BOOLEAN NOT NULL DEFAULT 1, UNIQUE (skill_id, grade));
CREATE TABLE holds (person_id INTEGER NOT NULL REFERENCES persons (id), level_id INTEGER NOT NULL REFERENCES levels (id), since DATE, extra JSON, PRIMARY KEY (person_id, level_id));
`

const knotSource = knotTables + `
INSERT INTO zones VALUES (1,NULL,'north',NULL),(2,1,'hill',NULL),(3,2,'top','the very top'),(4,NULL,'south',NULL),(5,4,'hill','another hill');
INSERT INTO firms VALUES (1,'ACORN',3,NULL,'Acorn',1.5),(2,'BIRCH',5,NULL,'Birch',2.25),(3,'CEDAR',1,NULL,NULL,NULL);
INSERT INTO persons VALUES (1,1,7,2,'Ada'),(2,1,8,1,'Bo'),(3,2,7,3,'Cy'),(4,2,9,NULL,'');
UPDATE firms SET contact_id = 2 WHERE id = 1; UPDATE firms SET contact_id = 3 WHERE id = 2;
INSERT INTO skills VALUES (1,'WELD',x'00ff10'),(2,'SEW',x'');
INSERT INTO levels VALUES (1,1,1,1),(2,1,2,0),(3,2,1,1);
INSERT INTO holds VALUES (1,1,'2026-01-31','{"b":1,"a":[2]}'),(1,3,NULL,NULL),(3,2,'1899-12-31','null');
`

// The target has some of it, with other internal ids, and things of its own.
const knotTarget = knotTables + `
INSERT INTO zones VALUES (70,NULL,'south','ours'),(71,NULL,'north',NULL),(72,70,'hill','another hill'),(73,70,'east',NULL);
INSERT INTO firms VALUES (50,'CEDAR',70,NULL,'Cedar',9.75),(51,'OWN',73,NULL,'Own firm',1);
INSERT INTO persons VALUES (90,51,1,NULL,'Own'),(91,50,1,90,'Del');
INSERT INTO skills VALUES (33,'SEW',x'aa');
`

// What the records say, with codes in place of internal ids.
const (
	zonesByName = `WITH RECURSIVE t(id, path) AS (SELECT id, name FROM zones WHERE parent_id IS NULL UNION ALL SELECT z.id, t.path || '/' || z.name FROM zones z JOIN t ON z.parent_id = t.id) `
	firmsQuery  = zonesByName + `SELECT f.code, t.path, ifnull(c.badge, '-'), ifnull(f.name, 'null'), ifnull(f.rating, 'null') FROM firms f JOIN t ON t.id = f.zone_id LEFT JOIN persons c ON c.id = f.contact_id AND c.firm_id = f.id ORDER BY 1`
	personQuery = `SELECT f.code, p.badge, ifnull(b.badge, '-'), ifnull(bf.code, '-'), quote(p.name) FROM persons p JOIN firms f ON f.id = p.firm_id LEFT JOIN persons b ON b.id = p.boss_id LEFT JOIN firms bf ON bf.id = b.firm_id ORDER BY 1, 2`
	holdsQuery  = `SELECT f.code, p.badge, s.code, l.grade, l.active, ifnull(h.since, 'null'), ifnull(h.extra, 'null') FROM holds h JOIN persons p ON p.id = h.person_id JOIN firms f ON f.id = p.firm_id JOIN levels l ON l.id = h.level_id JOIN skills s ON s.id = l.skill_id ORDER BY 1, 2, 3, 4`
)

func TestReferencesArriveAtTheRightRecords(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	p.must(0, "export", "source", "--name", "all")
	doc := p.json(3, "match", "all", "--against", "target")
	assert.Equal(t, map[string]int{"new": 15, "changed": 3, "target_only": 4}, totals(doc))
	assert.Equal(t, 0.0, doc["blockers"])
	p.must(0, "approve", "*")
	assert.Equal(t, map[string]any{"new": 15.0, "changed": 3.0}, p.json(0, "import", "--rehearse")["written"])
	assert.Equal(t, []string{"CEDAR south - Cedar 9.75", "OWN south/east - Own firm 1"}, p.rows("target", firmsQuery), "a rehearsal leaves nothing")
	imported := p.json(0, "import")
	assert.Equal(t, map[string]any{"new": 15.0, "changed": 3.0}, imported["written"])
	assert.Equal(t, true, imported["verified"])
	assert.Equal(t, "imported", imported["outcome"])

	assert.Equal(t, []string{"ACORN north/hill/top 8 Acorn 1.5", "BIRCH south/hill 7 Birch 2.25", "CEDAR north - null null", "OWN south/east - Own firm 1"}, p.rows("target", firmsQuery))
	assert.Equal(t, []string{"ACORN 7 8 ACORN 'Ada'", "ACORN 8 7 ACORN 'Bo'", "BIRCH 7 7 BIRCH 'Cy'", "BIRCH 9 - - ''", "CEDAR 1 1 OWN 'Del'", "OWN 1 - - 'Own'"}, p.rows("target", personQuery))
	assert.Equal(t, p.rows("source", holdsQuery)[0], `ACORN 7 SEW 1 1 null null`)
	assert.Equal(t, []string{"ACORN 7 SEW 1 1 null null", `ACORN 7 WELD 1 1 2026-01-31 {"a":[2],"b":1}`, "BIRCH 7 WELD 2 0 1899-12-31 null"}, p.rows("target", holdsQuery))
	assert.Equal(t, []string{"33 SEW X''", "34 WELD X'00FF10'"}, p.rows("target", "SELECT id, code, quote(sheet) FROM skills ORDER BY 1"))

	again := p.json(0, "match", "all", "--against", "target")
	assert.Equal(t, map[string]int{"target_only": 4}, totals(again), "0 differences among what was approved")
}

func TestWhatIsNotApprovedStaysAsItIs(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	p.must(0, "export", "source", "--name", "all")
	p.must(3, "match", "all", "--against", "target")
	f := p.review()["firm/CEDAR"]
	require.Equal(t, "changed", f.Status)
	require.Len(t, f.Fields, 3, "name, rating and zone differ")
	p.must(0, "approve", "firm/CEDAR", "--field", "rating")
	p.must(0, "approve", "skill/WELD")
	before := map[string][]string{}
	tables := map[string]string{
		"zones": "SELECT id, parent_id, quote(name), quote(note) FROM zones", "persons": "SELECT * FROM persons", "holds": "SELECT * FROM holds",
		"firms":  "SELECT id, code, zone_id, contact_id, quote(name), CASE code WHEN 'CEDAR' THEN '' ELSE quote(rating) END FROM firms",
		"skills": "SELECT id, code, quote(sheet) FROM skills WHERE code <> 'WELD'", "levels": "SELECT * FROM levels",
	}
	for name, query := range tables {
		before[name] = p.rows("target", query)
	}
	doc := p.json(0, "import")
	assert.Equal(t, map[string]any{"new": 1.0, "changed": 1.0}, doc["written"])
	for name, query := range tables {
		assert.Equal(t, before[name], p.rows("target", query), "%s: records and fields not approved are as they were", name)
	}
	assert.Equal(t, []string{"null"}, p.rows("target", "SELECT rating FROM firms WHERE code = 'CEDAR'"))
	assert.Equal(t, []string{"X'00FF10'"}, p.rows("target", "SELECT quote(sheet) FROM skills WHERE code = 'WELD'"))
}

func TestAReferenceThatIsNotApprovedBlocksJustWhatDependsOnIt(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	p.must(0, "export", "source", "--name", "all")
	p.must(3, "match", "all", "--against", "target")
	p.must(0, "hold", "zone/north/hill", "--note", "not yet")
	r := p.must(0, "approve", "--status", "new,changed")
	assert.Contains(t, r.out, "1 finding decided otherwise before")
	blocked := map[string]string{}
	for address, f := range p.review() {
		for _, c := range f.Checks {
			blocked[address] = c.Code
			assert.NotEmpty(t, c.Mend)
		}
	}
	assert.Equal(t, map[string]string{
		"zone/north/hill/top": "reference-not-approved", "firm/ACORN": "reference-not-approved", "person/ACORN/7": "reference-not-approved",
		"person/ACORN/8": "reference-not-approved", "holds/ACORN/7/SEW/1": "reference-not-approved", "holds/ACORN/7/WELD/1": "reference-not-approved",
	}, blocked)
	assert.Equal(t, "Approve zone/north/hill, or create it in target and match again.", p.review()["zone/north/hill/top"].Checks[0].Mend)
	doc := p.json(5, "import")
	assert.Len(t, doc["left_out"], 6)
	assert.Equal(t, map[string]any{"new": 8.0, "changed": 3.0}, doc["written"])
	assert.Equal(t, []string{"BIRCH 7 7 BIRCH 'Cy'", "BIRCH 9 - - ''", "CEDAR 1 1 OWN 'Del'", "OWN 1 - - 'Own'"}, p.rows("target", personQuery))

	// The mend, followed literally, removes the blockers.
	p.must(0, "approve", "zone/north/hill")
	doc = p.json(0, "import")
	assert.Equal(t, map[string]any{"new": 7.0, "changed": 0.0}, doc["written"])
	assert.Equal(t, 11.0, doc["already"])
	p.must(0, "match", "all", "--against", "target")
}

func TestAMissingReferenceIsNamedWithItsMend(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	p.must(0, "export", "source", "--name", "some", "--type", "firm", "--related", "none")
	doc := p.json(3, "match", "some", "--against", "target")
	assert.Equal(t, 3.0, doc["blockers"], "ACORN's zone, and the contacts of ACORN and BIRCH")
	checks := p.review()["firm/ACORN"].Checks
	require.Len(t, checks, 2)
	assert.Equal(t, "missing-reference", checks[0].Code)
	p.must(0, "approve", "*")
	doc = p.json(5, "import")
	assert.Equal(t, map[string]any{"new": 0.0, "changed": 1.0}, doc["written"], "CEDAR needs nothing that is not there")
	p.must(0, "decline", "firm/CEDAR")
	p.must(4, "import")
}

func TestKeysThatOccurTwiceAreNeverMatched(t *testing.T) {
	t.Parallel()
	catalog := "types:\n  code: {at: codes, key: [code], id: id, fold_case: [code]}\n  use: {at: uses, key: [code_id, no], id: id, refers: {code_id: code}}\n"
	tables := "CREATE TABLE codes (id INTEGER PRIMARY KEY, code TEXT, text TEXT); CREATE TABLE uses (id INTEGER PRIMARY KEY, code_id INTEGER, no INTEGER, note TEXT);"
	p := newPlace(t, catalog,
		tables+"INSERT INTO codes VALUES (1,'abc','x'),(2,'ABC','y'),(3,'one','1'),(4,'two','2'); INSERT INTO uses VALUES (1,1,1,'a'),(2,3,1,'b'),(3,4,1,'c');",
		tables+"INSERT INTO codes VALUES (8,'One','1'),(9,'TWO','2'),(10,'two','3'); INSERT INTO uses VALUES (5,8,1,'b');")
	p.must(0, "export", "source", "--name", "p")
	doc := p.json(3, "match", "p", "--against", "target")
	assert.Equal(t, map[string]int{"conflict": 4}, totals(doc), "abc, two, and what has them in its key")
	found := p.review()
	assert.Equal(t, []string{"ambiguous"}, found["code/ABC"].Reasons)
	assert.Contains(t, found["code/ABC"].Checks[0].Message, "(as code/ABC, code/abc)")
	assert.Contains(t, found["code/two"].Checks[0].Message, "internal ids 10, 9")
	assert.Contains(t, p.must(0, "approve", "*").out, "0 findings of docket 1 approved")
	p.must(3, "import")
}

func TestRecordsThatMovedAreLeftOutAndNamed(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	p.must(0, "export", "source", "--name", "all")
	p.must(3, "match", "all", "--against", "target")
	p.must(0, "approve", "*")
	// Meanwhile in the target: a changed record changes again, a new one appears, and
	// one that is referred to goes.
	p.sql("target", "UPDATE firms SET name = 'Cedar & Co' WHERE code = 'CEDAR'; INSERT INTO skills VALUES (40,'WELD',x'01'); DELETE FROM zones WHERE id = 72;")
	doc := p.json(5, "import")
	left := map[string]string{}
	for _, entry := range doc["left_out"].([]any) {
		e := entry.(map[string]any)
		left[e["address"].(string)] = e["why"].(string)
	}
	assert.Equal(t, "moved-since-match", left["firm/CEDAR"])
	assert.Equal(t, "moved-since-match", left["skill/WELD"])
	assert.Equal(t, "depends-on-left-out", left["level/WELD/1"])
	assert.Equal(t, "moved-since-match", left["firm/BIRCH"], "its zone is gone")
	assert.Equal(t, "depends-on-left-out", left["person/BIRCH/7"])
	assert.Equal(t, []string{"Cedar & Co"}, p.rows("target", "SELECT name FROM firms WHERE code = 'CEDAR'"), "nothing that moved is overwritten")
	assert.Equal(t, []string{"X'01'"}, p.rows("target", "SELECT quote(sheet) FROM skills WHERE code = 'WELD'"))
	text := p.must(0, "history", "1").out
	assert.Contains(t, words(text), "moved-since-match: firm/CEDAR was not imported: it changed in target since it was matched")
}
