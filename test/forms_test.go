package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

const formsCatalog = `
types:
  ward: {at: wards, key: [site, no]}
  bed: {at: beds, key: [ward, no], id: id, refers: {ward: {to: ward, columns: {site: site, ward_no: no}}}}
  assay: {at: items, key: [code], id: id, only: "kind == 'A'"}
  panel: {at: items, key: [code], id: id, only: "kind == 'P'"}
  result: {at: results, key: [item_id, no], refers: {item_id: assay}, part_of: assay}
  note: {at: notes, key: [object_type, object_id], refers: {object_id: {by: object_type, to: {A: assay, P: panel, B: bed}}}}
  formula: {at: formulas, key: [code], refers: {content: {to: assay, pattern: "{ID}"}, members: {to: assay, list: ","}, rule: {to: panel, path: "$.of[*]"}}}
`

const formsTables = `
CREATE TABLE wards (site varchar(10) NOT NULL, no integer NOT NULL, name varchar(40), PRIMARY KEY (site, no));
CREATE TABLE beds (id {id}, site varchar(10) NOT NULL, ward_no integer NOT NULL, no integer NOT NULL, name varchar(40), FOREIGN KEY (site, ward_no) REFERENCES wards (site, no), UNIQUE (site, ward_no, no));
CREATE TABLE items (id {id}, kind varchar(1), code varchar(20), name varchar(40));
CREATE TABLE results (item_id integer, no integer, note varchar(40));
CREATE TABLE notes (object_type varchar(1), object_id integer, note varchar(40));
CREATE TABLE formulas (code varchar(20), content varchar(200), members varchar(200), rule {json});`

// TestReferencesOfEveryFormAreBrought brings records whose ids differ wherever they stand.
func TestReferencesOfEveryFormAreBrought(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			address, db := server(t, p, engine, "target")
			json := map[string]string{"sqlite": "JSON", "postgres": "jsonb", "mysql": "json"}
			tables := func(engine string) []string {
				text := strings.ReplaceAll(strings.ReplaceAll(formsTables, "{id}", serverID[engine]), "{json}", json[engine])
				return strings.Split(strings.Trim(text, "\n;"), ";\n")
			}
			run(t, db, tables(engine)...)
			run(t, db, "INSERT INTO wards VALUES ('N', 1, 'one')", "INSERT INTO items VALUES (900, 'A', 'K', 'Potassium'), (901, 'P', 'GLU', 'a panel with an assay''s code'), (902, 'X', 'ELSE', 'neither')",
				"INSERT INTO results VALUES (901, 7, 'of a panel, which has no results')", "INSERT INTO formulas VALUES ('F2', '{900}', '', '{\"of\": [901]}')")
			p.sql("source", strings.Join(tables("sqlite"), ";\n")+`;
				INSERT INTO wards VALUES ('N', 1, 'one'), ('N', 2, 'two');
				INSERT INTO beds VALUES (5, 'N', 2, 1, 'window');
				INSERT INTO items VALUES (1, 'A', 'GLU', 'Glucose'), (2, 'A', 'K', 'Potassium'), (3, 'P', 'GLU', 'a panel with an assay''s code'), (4, 'Y', 'GLU', 'neither');
				INSERT INTO results VALUES (1, 1, 'first'), (4, 1, 'of neither');
				INSERT INTO notes VALUES ('A', 1, 'assay'), ('P', 3, 'panel'), ('B', 5, 'bed');
				INSERT INTO formulas VALUES ('F1', '{1}/{2}', '2,1', '{"of": [3, "3"], "not": 3}'), ('F2', '{2}', '', '{"of": [3]}');`)
			p.write("catalog.yaml", formsCatalog)
			p.target(address, "")
			p.must(0, "export", "source", "--name", "e")
			p.must(0, "parcel", "verify", "e")
			doc := p.json(3, "match", "e", "--against", "target")
			assert.Equal(t, map[string]int{"new": 8, "not_compared": 5}, totals(doc), "what only: leaves out is counted, on the target's side")
			f1 := p.review("--only", "formula/F1")["formula/F1"]
			assert.Equal(t, "{assay/GLU}/{assay/K}", *f1.Fields[0].Source, "ids inside a text are shown as what they mean")
			assert.Contains(t, p.must(0, "approve", "formula/F1").err+p.must(4, "import").out, "reference-not-approved", "ids inside a text need their records too")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{"F1|{NEW}/{900}|900,NEW"}, lines(t, db, "SELECT f.code, replace(f.content, "+textOf(engine, "i.id")+", 'NEW'), replace(f.members, "+textOf(engine, "i.id")+
				", 'NEW') FROM formulas f, items i WHERE f.code = 'F1' AND i.kind = 'A' AND i.code = 'GLU'"))
			assert.Equal(t, []string{"A|assay|GLU", "B|bed|", "P|panel|GLU"}, lines(t, db, "SELECT n.object_type, n.note, i.code FROM notes n LEFT JOIN items i ON i.id = n.object_id AND n.object_type <> 'B' AND i.kind = n.object_type ORDER BY 1"))
			assert.Equal(t, []string{"first|GLU"}, lines(t, db, "SELECT r.note, i.code FROM results r JOIN items i ON i.id = r.item_id WHERE i.kind = 'A'"))
			assert.Equal(t, []string{"two|window"}, lines(t, db, "SELECT w.name, b.name FROM beds b JOIN wards w ON w.site = b.site AND w.no = b.ward_no"))
			assert.Equal(t, []string{"ELSE", "K"}, lines(t, db, "SELECT code FROM items WHERE id IN (900, 902) ORDER BY 1"), "what is outside stays")
			assert.Equal(t, map[string]int{"not_compared": 6}, totals(p.json(0, "match", "e", "--against", "target")))

			p.write("drafted/anagram.yaml", string(p.read("anagram.yaml")))
			draft := p.must(0, "catalog", "draft", "target").out
			assert.Contains(t, draft, "ward: {to: ward, columns: {site: site, ward_no: \"no\"}}")
			assert.Contains(t, draft, "key: [ward, \"no\"]")
		})
	}
}

// textOf is a column as text.
func textOf(engine, column string) string {
	return "CAST(" + column + " AS " + map[string]string{"mysql": "char", "postgres": "varchar", "sqlite": "TEXT"}[engine] + ")"
}
