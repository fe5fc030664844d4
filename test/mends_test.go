package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a message about the catalog or the configuration offers is done to the letter, each way
// of it, and then the check holds.
func TestMendsOfCatalogAndConfiguration(t *testing.T) {
	t.Parallel()
	const (
		tables = `CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT UNIQUE NOT NULL, owner INTEGER, off BOOLEAN NOT NULL DEFAULT 0, gone DATE, amount NUMERIC, at TIMESTAMP, by TEXT);
			CREATE TABLE lines (no INTEGER, unit_id INTEGER REFERENCES units (id), other INTEGER, text TEXT, PRIMARY KEY (unit_id, no));
			CREATE TABLE wards (site TEXT, no INTEGER, name TEXT, PRIMARY KEY (site, no)); CREATE TABLE beds (code TEXT PRIMARY KEY, site TEXT, ward_no INTEGER);
			INSERT INTO units (id, code, owner) VALUES (1, 'g', 1), (2, 'h', 1); INSERT INTO lines VALUES (1, 1, 99, 'x'); INSERT INTO wards VALUES ('n', 1, 'w'); INSERT INTO beds VALUES ('b', 'n', 1);`
		unit   = "  unit: {at: units, key: [code], id: id, refers: {owner: unit}}\n"
		config = "environments:\n  source: {connect: \"sqlite:source.db\"}\n"
	)
	type mend struct{ catalog, config string }
	for _, c := range []struct {
		name   string
		broken mend
		says   string
		mends  []mend
	}{
		{"no key", mend{catalog: "  unit: {at: units, id: id, ignore: [owner]}\n"}, "such as key: [code]", []mend{{catalog: "  unit: {at: units, id: id, ignore: [owner], key: [code]}\n"}}},
		{"an unknown word", mend{catalog: "  unit: {at: units, keys: [code], id: id, ignore: [owner]}\n"}, `did you mean "key"?`, []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner]}\n"}}},
		{"an unknown field", mend{catalog: "  unit: {at: units, key: [cod], id: id, ignore: [owner]}\n"}, `did you mean "code"?`, []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner]}\n"}}},
		{"an unknown place", mend{catalog: "  unit: {at: unit, key: [code], id: id}\n"}, `did you mean "units"?`, []mend{{catalog: unit}}},
		{"an unknown type", mend{catalog: unit + "  line: {at: lines, key: [unit_id, no], refers: {unit_id: units}, ignore: [other]}\n"}, `did you mean "unit"?`, []mend{{catalog: unit + "  line: {at: lines, key: [unit_id, no], refers: {unit_id: unit}, ignore: [other]}\n"}}},
		{"an id that would be compared", mend{catalog: "  unit: {at: units, key: [code], ignore: [owner]}\n"}, "name it as id: or as key:", []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner]}\n"}, {catalog: "  unit: {at: units, key: [id], ignore: [owner]}\n"}}},
		{"a foreign key that is no reference", mend{catalog: unit + "  line: {at: lines, key: [no, text], ignore: [other]}\n"}, "add refers: {unit_id: unit}, or put it under ignore:", []mend{
			{catalog: unit + "  line: {at: lines, key: [no, text], ignore: [other], refers: {unit_id: unit}}\n"}, {catalog: unit + "  line: {at: lines, key: [no, text], ignore: [other, unit_id]}\n"}}},
		{"a reference that leads nowhere", mend{catalog: unit + "  line: {at: lines, key: [unit_id, no], refers: {unit_id: unit, other: unit}}\n"}, "or put the field under ignore:", []mend{{catalog: unit + "  line: {at: lines, key: [unit_id, no], refers: {unit_id: unit}, ignore: [other]}\n"}}},
		{"an owner that nothing refers to", mend{catalog: unit + "  line: {at: lines, key: [no, text], ignore: [other, unit_id], part_of: unit}\n"}, "add it under refers:", []mend{{catalog: unit + "  line: {at: lines, key: [no, text], ignore: [other], refers: {unit_id: unit}, part_of: unit}\n"}}},
		{"a reference to a key of several fields", mend{catalog: "  ward: {at: wards, key: [site, no]}\n  bed: {at: beds, key: [code], refers: {ward_no: ward}}\n"}, "say with columns: which columns are which there", []mend{
			{catalog: "  ward: {at: wards, key: [site, no]}\n  bed: {at: beds, key: [code], refers: {ward: {to: ward, columns: {site: site, ward_no: no}}}}\n"}}},
		{"a reference to nothing", mend{catalog: "  unit: {at: units, key: [code], id: id, refers: {owner: {none: [0]}}}\n"}, "add to:", []mend{{catalog: "  unit: {at: units, key: [code], id: id, refers: {owner: {to: unit, none: [0]}}}\n"}}},
		{"a way of retiring that cannot be", mend{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], retired: {field: off, when: not null}}\n"}, "name the values under values: instead", []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], retired: {field: off, values: [\"true\"]}}\n"}}},
		{"a boolean in one word", mend{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], as: {off: boolean J}}\n"}, "as in: boolean Y/N", []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], as: {off: boolean 1/0}}\n"}}},
		{"an empty unique set", mend{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], unique: [[]]}\n"}, "as in unique: [[name], [list, position]]", []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], unique: [[by], [by, at]]}\n"}}},
		{"people without a place", mend{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], stamp: {by: by, person: {id: id}}}\n"}, "as in person: {at: users, id: user_id, name: login}", []mend{{catalog: "  unit: {at: units, key: [code], id: id, ignore: [owner], stamp: {by: by, person: {at: units, id: id, name: code}}}\n"}}},
		{"no types", mend{catalog: "\n"}, "add them under types:", []mend{{catalog: unit}}},
		{"an environment without address", mend{config: "environments:\n  source: {release: \"1\"}\n"}, "such as connect: sqlite:data/source.db", []mend{{config: "environments:\n  source: {release: \"1\", connect: \"sqlite:source.db\"}\n"}}},
		{"an unknown way to connect", mend{config: "environments:\n  source: {connect: \"sqlit:source.db\"}\n"}, `did you mean "sqlite:"?`, []mend{{config: config}}},
		{"an unknown key", mend{config: config + "standings: []\n"}, `did you mean "standing"?`, []mend{{config: config + "standing: []\n"}}},
		{"a setting without address", mend{config: config + "must_agree: [{field: by}]\n"}, "write its address, or {setting: ADDRESS, field: FIELD}", []mend{{config: config + "must_agree: [{setting: unit/g, field: by}]\n"}}},
		{"a setting of several fields", mend{config: config + "must_agree: [unit/g]\n"}, "say which one it is, as in {setting: unit/g, field: owner}", []mend{{config: config + "must_agree: [{setting: unit/g, field: owner}]\n"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, "", tables, tables)
			put := func(m mend) result {
				p.write("catalog.yaml", "types:\n"+orElse(m.catalog, unit))
				p.write("anagram.yaml", orElse(m.config, config))
				return p.run("catalog", "check")
			}
			r := put(c.broken)
			assert.Equal(t, 2, r.code, r.out+r.err)
			assert.Contains(t, words(r.out+" "+r.err), c.says)
			for _, m := range c.mends {
				r := put(m)
				assert.Zero(t, r.code, "%+v\n%s%s", m, r.out, r.err)
				assert.NotContains(t, strings.ReplaceAll(r.out, "caution", ""), "problem")
			}
		})
	}
}

func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
