package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Names and values as they are met in real databases, none of them nice.
func TestOddNamesAndValues(t *testing.T) {
	t.Parallel()
	catalog := `
types:
  group: {at: "Group", key: ["select"], id: "we\"ird id"}
  order-line:
    at: order lines
    key: [day, "Größe", open, "grp"]
    refers: {grp: group}
    title: "long text"
  view: {at: only_seen, key: [code]}
`
	tables := `
CREATE TABLE "Group" ("we""ird id" INTEGER PRIMARY KEY, "select" TEXT);
CREATE TABLE "order lines" (day DATE, "Größe" DECIMAL(8,3), open BOOLEAN, grp INTEGER REFERENCES "Group", "long text" TEXT, "twice" INTEGER GENERATED ALWAYS AS (length("long text") * 2), big INTEGER, PRIMARY KEY (day, "Größe", open, grp)) WITHOUT ROWID;
CREATE TABLE seen (code TEXT, n INTEGER); CREATE VIEW only_seen AS SELECT code, n FROM seen;
`
	p := newPlace(t, catalog, tables+`
INSERT INTO "Group" VALUES (1,'a/b%*?~'),(2,'~'),(3,''),(4,'  blank  '),(5,'naïve 😀 שלום'),(6,char(27) || '[31mred');
INSERT INTO "order lines" (day, "Größe", open, grp, "long text", big) SELECT '2026-01-0' || "we""ird id", "we""ird id" / 8.0, "we""ird id" % 2, "we""ird id", char(27) || '[31m' || char(13, 10) || printf('%070000d', 1), 9223372036854775807 FROM "Group";
INSERT INTO seen VALUES ('x', 1);`,
		tables+`INSERT INTO "Group" VALUES (77,'~'); INSERT INTO seen VALUES ('x', 1);`)
	p.must(0, "catalog", "check")
	p.must(0, "export", "source", "--name", "p")
	doc := p.json(3, "match", "p", "--against", "target")
	assert.Equal(t, map[string]int{"new": 11}, totals(doc))
	text := p.must(0, "review", "--full")
	assert.NotContains(t, strings.ReplaceAll(text.out, "\n", ""), "\x1b", "control characters of values never reach the terminal")
	assert.Contains(t, text.out, "group/a%2Fb%25%2A%3F~\n")
	assert.Contains(t, text.out, "group/%1B[31mred\n")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Empty(t, totals(p.json(0, "match", "p", "--against", "target")))
	query := `SELECT day, "Größe", open, g."select", length("long text"), big FROM "order lines" JOIN "Group" g ON g."we""ird id" = grp ORDER BY 1`
	assert.Equal(t, p.rows("source", query), p.rows("target", query))
	assert.Contains(t, p.must(0, "parcel", "show", "p", "order-line/2026-01-01/*").out, `\x1b[31m\r\n000`)
}

func TestExportsOfSingleRecords(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	p.must(0, "export", "source", "--name", "one", "--record", "assay/GLU", "--record", "unit/m*")
	doc := p.json(0, "parcel", "show", "one")
	assert.Len(t, doc["types"], 2)
	match := p.json(3, "match", "one", "--against", "target")
	assert.Equal(t, map[string]int{"new": 2, "not_compared": 2}, totals(match), "what was not selected is not compared")
	area := strings.Replace(plainCatalog, "types:", "areas: {base: [unit]}\ntypes:", 1)
	p.write("catalog.yaml", area)
	p.must(0, "export", "source", "--name", "two", "--area", "base", "--note", "units only")
	assert.Contains(t, p.must(0, "parcel", "show", "two").out, "units only")
	p.refused("already exists", "export", "source", "--name", "two")
	p.write("catalog.yaml", strings.Replace(area, "key: [code], id: assay_id", "key: [low], id: assay_id", 1))
	p.refused("when the parcel was exported it was [code]", "match", "one", "--against", "target")
}

func TestTypesAndFieldsOnOneSideOnlyAreSaid(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	p.sql("target", "ALTER TABLE assays DROP COLUMN low; ALTER TABLE assays ADD COLUMN extra TEXT; ALTER TABLE assays ADD COLUMN gone TEXT;")
	p.must(0, "export", "source", "--name", "p")
	r := p.must(3, "match", "p", "--against", "target")
	for _, want := range []string{"not-on-both-sides: Field low of assay is in source but not in target", "Field extra of assay is in target but not in the parcel", "3 cautions"} {
		assert.Contains(t, words(r.out), want)
	}
	p.sql("target", "DROP TABLE assays")
	r = p.must(3, "match", "p", "--against", "target")
	assert.Contains(t, words(r.out), `assay is not compared: target has nothing called "assays"`)
	assert.Contains(t, r.out, "not compared")
}
