package main

import (
	"fmt"
	"strings"
)

// The data: six record types with references, links, texts, numbers and stamps. Internal ids of
// the target are others than those of the source, so that every reference has to be translated.

const catalog = `
types:
  unit: {at: units, key: [code], id: id}
  assay: {at: assays, key: [code], id: id, refers: {unit_id: unit}, stamp: {at: changed_at, by: changed_by}}
  reagent: {at: reagents, key: [code], id: id}
  panel: {at: panels, key: [code], id: id, refers: {unit_id: unit}}
  range: {at: ranges, key: [assay_id, no], refers: {assay_id: assay}, part_of: assay}
  panel_assay: {at: panel_assays, key: [panel_id, assay_id], refers: {panel_id: panel, assay_id: assay}}
`

// share of all records in percent, of each type but units.
var share = []struct {
	table   string
	percent int
}{{"assays", 50}, {"reagents", 15}, {"panels", 5}, {"ranges", 20}, {"panel_assays", 10}}

const units = 50

// schema and rows in the words of an engine.
func (e engine) build(size, seed int, target bool, changed int) string {
	id := 0
	if target {
		id = 1_000_000_000
	}
	count := func(table string) int {
		for _, s := range share {
			if s.table == table {
				return max(10, size*s.percent/100)
			}
		}
		return units
	}
	assays, panels := count("assays"), count("panels")
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+";\n", args...) }
	say("CREATE TABLE units (id %s, code VARCHAR(20) NOT NULL UNIQUE, name VARCHAR(60))", e.id)
	say("CREATE TABLE assays (id %s, code VARCHAR(20) NOT NULL UNIQUE, name VARCHAR(60), unit_id INTEGER REFERENCES units (id), price DECIMAL(10,2), active BOOLEAN NOT NULL, sort_no INTEGER, changed_at %s, changed_by VARCHAR(20))", e.id, e.stampType)
	say("CREATE TABLE reagents (id %s, code VARCHAR(20) NOT NULL UNIQUE, name VARCHAR(60), lot VARCHAR(20), size DECIMAL(10,3))", e.id)
	say("CREATE TABLE panels (id %s, code VARCHAR(20) NOT NULL UNIQUE, title VARCHAR(60), unit_id INTEGER REFERENCES units (id))", e.id)
	say("CREATE TABLE ranges (assay_id INTEGER NOT NULL REFERENCES assays (id), no INTEGER NOT NULL, low DECIMAL(10,2), high DECIMAL(10,2), note VARCHAR(60), PRIMARY KEY (assay_id, no))")
	say("CREATE TABLE panel_assays (panel_id INTEGER NOT NULL REFERENCES panels (id), assay_id INTEGER NOT NULL REFERENCES assays (id), rank INTEGER, PRIMARY KEY (panel_id, assay_id))")

	// 1 record in a thousand is in the source only, another one in the target only; what differs
	// are changed percent of the rest.
	where := "i % 1000 <> 7"
	if target {
		where = "i % 1000 <> 3"
	}
	differs := func(then, otherwise string) string {
		if !target {
			return otherwise
		}
		return fmt.Sprintf("CASE WHEN i %% 100 < %d THEN %s ELSE %s END", changed, then, otherwise)
	}
	mixed := fmt.Sprintf("((i * 7919 + %d) %% 1000003)", seed)
	code := func(letter, i string) string { return "'" + letter + "' || " + e.text("10000000000 + "+i) }
	// What is referred to is on both sides.
	there := func(of int) string { return fmt.Sprintf(" AND (1 + i %% %d) %% 1000 NOT IN (3, 7)", of) }
	stamp := e.stamp("'2025-' || " + e.text("10 + i % 3") + " || '-' || " + e.text("10 + i % 18") + " || ' ' || " +
		e.text("10 + i % 14") + " || ':' || " + e.text("10 + i % 50") + " || ':' || " + e.text("10 + "+mixed+" % 50"))
	// Rows lie in another order than that of their keys, as in an application that is used.
	fill := func(table, rows string, n int, and string) {
		say("INSERT INTO %s SELECT %s FROM %s WHERE %s", table, rows, e.series(n), where+and)
	}
	say("INSERT INTO units SELECT %d + i, %s, 'unit ' || %s FROM %s", id, code("U", "i"), e.text("i"), e.series(units))
	fill("assays", fmt.Sprintf("%d + i, %s, %s, %d + 1 + i %% %d, %s / 100.0, i %% 3 > 0, i %% 10, %s, 'mara'", id,
		code("A", mixed+" * 1000 + i"+e.div+"1000003"), differs("'another name ' || "+e.text("i"),
			"'Assay of substance ' || "+e.text(mixed)), id, units, mixed, stamp), assays, "")
	fill("reagents", fmt.Sprintf("%d + i, %s, 'Reagent ' || %s, %s, i / 8.0", id, code("R", "i"), e.text(mixed),
		differs("'another lot'", "'L' || "+e.text("i % 977"))), count("reagents"), "")
	fill("panels", fmt.Sprintf("%d + i, %s, 'Panel of ' || %s, %d + 1 + i %% %d", id, code("P", "i"),
		differs("'others ' || "+e.text("i"), e.text(mixed)), id, units), panels, "")
	fill("ranges", fmt.Sprintf("%d + 1 + i %% %d, i%s%d, %s, 100 + i, 'note on range ' || %s", id, assays, e.div, assays,
		differs("1", "i / 4.0"), e.text("i")), count("ranges"), there(assays))
	fill("panel_assays", fmt.Sprintf("%d + 1 + i %% %d, %d + 1 + i %% %d, %s", id, panels, id, assays, differs("0", "i % 50 + 1")),
		count("panel_assays"), there(assays)+there(panels))
	return out.String()
}
