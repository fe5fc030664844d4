package test

import (
	"context"
	"os"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	runs "anagram/internal/store/docket/run"
	"anagram/internal/store/register"
	"anagram/internal/store/workspace"
)

type r = []string

var matchCases = []matchCase{
	// What a field is, by what both sides have (S, T) and what they last agreed on (A).
	{name: "S = T, nothing agreed", source: r{"A price=1"}, target: r{"A price=1"}, want: r{}},
	{name: "S = T, agreed on the same", agreed: r{"A price=1"}, source: r{"A price=1"}, target: r{"A price=1"}, want: r{}},
	{name: "S = T, both moved to the same", agreed: r{"A price=1"}, source: r{"A price=2"}, target: r{"A price=2"}, want: r{}},
	{name: "S ≠ T, nothing agreed", source: r{"A price=2"}, target: r{"A price=1"}, want: r{"changed item/A: price ?"}},
	{name: "S ≠ T, A = T", agreed: r{"A price=1"}, source: r{"A price=2"}, target: r{"A price=1"}, want: r{"changed item/A: price source"}},
	{name: "S ≠ T, A = S", agreed: r{"A price=1"}, source: r{"A price=1"}, target: r{"A price=2"}, want: r{"target-edit item/A: price target"}},
	{name: "S ≠ T, A is neither", agreed: r{"A price=1"}, source: r{"A price=2"}, target: r{"A price=3"}, want: r{"conflict item/A (both-moved): price both; caution both-moved"}},

	// What a record is, by its fields together.
	{name: "one field moved by each", agreed: r{"A name=a price=1"}, source: r{"A name=b price=1"}, target: r{"A name=a price=2"},
		want: r{"changed item/A: name source, price target"}},
	{name: "one field moved by the source, one by both", agreed: r{"A name=a price=1"}, source: r{"A name=b price=2"}, target: r{"A name=a price=3"},
		want: r{"conflict item/A (both-moved): name source, price both; caution both-moved"}},
	{name: "one field moved by the target, one by both", agreed: r{"A name=a price=1"}, source: r{"A name=a price=2"}, target: r{"A name=b price=3"},
		want: r{"conflict item/A (both-moved): name target, price both; caution both-moved"}},
	{name: "all differences moved by the target", agreed: r{"A name=a price=1"}, source: r{"A name=a price=1"}, target: r{"A name=b price=2"},
		want: r{"target-edit item/A: name target, price target"}},
	{name: "new", source: r{"A price=1"}, want: r{"new item/A"}},
	{name: "new, though others were agreed", agreed: r{"A"}, source: r{"A", "B"}, target: r{"A"}, want: r{"new item/B"}},
	{name: "removed in the target", agreed: r{"A", "B"}, source: r{"A", "B"}, target: r{"B"}, want: r{"conflict item/A (removed-in-target); caution removed-in-target"}},
	{name: "removed in the target, changed in the source", agreed: r{"A price=1"}, source: r{"A price=2"}, want: r{"conflict item/A (removed-in-target); caution removed-in-target"}},
	{name: "only in the target", source: r{"A"}, target: r{"A", "B"}, want: r{"target-only item/B"}},
	{name: "removed in the source", agreed: r{"A", "B"}, source: r{"A"}, target: r{"A", "B"}, want: r{"target-only item/B (removed-in-source); caution removed-in-source"}},
	{name: "removed in the source and edited in the target", agreed: r{"A", "B price=1"}, source: r{"A"}, target: r{"A", "B price=2"}, want: r{"target-only item/B (removed-in-source, edited-since); caution removed-in-source"}},
	{name: "removed on both sides", agreed: r{"A", "B"}, source: r{"A"}, target: r{"A"}, want: r{}},
	{name: "only in the target, out of scope", source: r{"A"}, target: r{"A price=2", "B"}, export: "--record item/A", want: r{"changed item/A: price ?"}},
	{name: "every status at once", agreed: r{"A price=1", "B price=1", "C price=1", "D", "E"},
		source: r{"A price=2", "B price=1", "C price=2", "D", "N", "S"}, target: r{"A price=1", "B price=2", "C price=3", "D", "E", "S"},
		want: r{"conflict item/C (both-moved): price both; caution both-moved", "changed item/A: price source", "new item/N", "target-edit item/B: price target", "target-only item/E (removed-in-source); caution removed-in-source"}},

	// Values.
	{name: "1.50 is 1.5", source: r{"A price=1.50"}, target: r{"A price=1.5"}, want: r{}},
	{name: "null is not the empty text", source: r{"A name=~"}, target: r{"A name=!"}, want: r{"changed item/A: name ?"}},
	{name: "null is the empty text where the catalog says so", keys: ", blank_is_null: [name]", source: r{"A name=~"}, target: r{"A name=!"}, want: r{}},
	{name: "texts are compared exactly", source: r{"A name=Ab"}, target: r{"A name=ab"}, want: r{"changed item/A: name ?"}},
	{name: "texts are folded where the catalog says so", keys: ", fold_case: [name]", source: r{"A name=Ab"}, target: r{"A name=ab"}, want: r{}},
	{name: "texts are trimmed where the catalog says so", keys: ", trim: [name]", source: r{"A name=_a"}, target: r{"A name=a_"}, want: r{}},
	{name: "texts of another Unicode form differ", source: r{"A name=é"}, target: r{"A name=e\u0301"}, want: r{"changed item/A: name ?"}},
	{name: "texts of another Unicode form are the same where the catalog says so", keys: ", nfc: [name]", source: r{"A name=é"}, target: r{"A name=e\u0301"}, want: r{}},
	{name: "stamps are not compared", source: r{"A changed=2026-01-02_00:00:00"}, target: r{"A changed=2026-01-01_00:00:00"}, want: r{}},
	{name: "references are compared by key", source: r{"unit:g", "unit:mg", "A unit=mg"}, target: r{"unit:mg", "unit:g", "A unit=mg"}, want: r{}},
	{name: "a reference that differs", source: r{"unit:g", "unit:mg", "A unit=mg"}, target: r{"unit:mg", "unit:g", "A unit=g"}, want: r{"changed item/A: unit_id ?"}},

	// Keys.
	{name: "keys of another Unicode form are one", source: r{"é price=1"}, target: r{"e\u0301 price=2"}, want: r{"changed item/é: price ?"}},
	{name: "keys of another case are two", source: r{"a"}, target: r{"A"}, want: r{"new item/a", "target-only item/A"}},
	{name: "keys of another case are one where the catalog says so", keys: ", fold_case: [code]", source: r{"a price=1"}, target: r{"A price=2"}, want: r{"changed item/a: price ?"}},
	{name: "keys with blanks around are one where the catalog says so", keys: ", trim: [code]", source: r{"_a price=1"}, target: r{"a_ price=2"}, want: r{"changed item/%20a: price ?"}},
	{name: "a blank key is a null one where the catalog says so", keys: ", blank_is_null: [code]", source: r{"~ price=1"}, target: r{"! price=2"}, want: r{"changed item/~: price ?"}},
	{name: "a null key is not a blank one", source: r{"~ price=1"}, target: r{"! price=1"}, want: r{"new item/~", "target-only item/"}},
	{name: "a blank key is another one", source: r{"_ price=1"}, target: r{"A price=1"}, want: r{"new item/%20", "target-only item/A"}},
	{name: "a key twice in the source", source: r{"A", "A price=2"}, target: r{"A"}, want: r{"conflict item/A (ambiguous); blocker ambiguous-key"},
		mend: []mend{{code: "ambiguous-key", address: "item/A", steps: r{"source -A"}}}},
	{name: "a key twice in the target", source: r{"A"}, target: r{"A", "A"}, want: r{"conflict item/A (ambiguous); blocker ambiguous-key"},
		mend: []mend{{code: "ambiguous-key", address: "item/A", steps: r{"sql DELETE FROM items WHERE id = 502"}}}},
	{name: "a key twice on both sides", source: r{"A", "A"}, target: r{"A", "A"}, want: r{"conflict item/A (ambiguous); blocker ambiguous-key"}},
	{name: "a key twice in another case", keys: ", fold_case: [code]", source: r{"a", "A"}, target: r{"A"}, want: r{"conflict item/A (ambiguous); blocker ambiguous-key"},
		mend: []mend{{code: "ambiguous-key", address: "item/A", steps: r{"source -a"}}}},
	{name: "parts of a record whose key is there twice", source: r{"A", "A", "part:A/1 note=x"}, target: r{"A"},
		want: r{"conflict item/A (ambiguous); blocker ambiguous-key", "conflict part/A/1 (ambiguous); blocker ambiguous-key"}},
	{name: "the same key under two owners", source: r{"A", "B", "part:A/1 note=x", "part:B/1 note=y"}, target: r{"B", "A", "part:A/1 note=x", "part:B/1 note=z"},
		want: r{"changed part/B/1: note ?"}},

	// Conflicts that the records themselves tell of.
	{name: "the target is newer, nothing agreed", source: r{"A price=2 changed=2026-01-01_00:00:00"}, target: r{"A price=1 changed=2026-01-02_00:00:00"},
		want: r{"conflict item/A (target-newer): price ?; caution target-newer"}},
	{name: "the target is newer, but only the source moved", agreed: r{"A price=1"}, source: r{"A price=2 changed=2026-01-01_00:00:00"}, target: r{"A price=1 changed=2026-01-02_00:00:00"},
		want: r{"changed item/A: price source"}},
	{name: "the source is newer", source: r{"A price=2 changed=2026-01-03_00:00:00"}, target: r{"A price=1 changed=2026-01-02_00:00:00"}, want: r{"changed item/A: price ?"}},
	{name: "retired in the target", agreed: r{"A price=1 status=A"}, source: r{"A price=2 status=A"}, target: r{"A price=1 status=R"},
		want: r{"conflict item/A (retired-in-target): price source, status target; caution retired-in-target"}},
	{name: "retired in the target, and nothing else", agreed: r{"A status=A"}, source: r{"A status=A"}, target: r{"A status=R"}, want: r{"target-edit item/A: status target"}},
	{name: "retired in the target, and newer there", source: r{"A price=2 status=A changed=2026-01-01_00:00:00"}, target: r{"A price=1 status=R changed=2026-01-02_00:00:00"},
		want: r{"conflict item/A (target-newer, retired-in-target): price ?, status ?; caution target-newer; caution retired-in-target"}},
	{name: "retired in the source", agreed: r{"A status=A"}, source: r{"A status=R"}, target: r{"A status=A"}, want: r{"changed item/A: status source"}},
	{name: "both moved, and retired in the target", agreed: r{"A price=1 status=A"}, source: r{"A price=2 status=A"}, target: r{"A price=3 status=R"},
		want: r{"conflict item/A (both-moved, retired-in-target): price both, status target; caution both-moved; caution retired-in-target"}},

	// Unique values beside the key.
	{name: "a value is taken", columns: map[string]string{"name": "TEXT UNIQUE"}, source: r{"A name=x"}, target: r{"A name=y", "B name=x"},
		want: r{"conflict item/A (taken): name ?; blocker value-taken", "target-only item/B"},
		mend: []mend{{code: "value-taken", address: "item/A", steps: r{"target B name=z"}}, {code: "value-taken", address: "item/A", steps: r{"source A name=y"}}, {code: "value-taken", address: "item/A", steps: r{"> approve item/A --take target"}}}},
	{name: "a value is taken, and the record is new", columns: map[string]string{"name": "TEXT UNIQUE"}, source: r{"A name=x"}, target: r{"B name=x"},
		want: r{"conflict item/A (taken); blocker value-taken", "target-only item/B"}},
	{name: "a value is taken, as the catalog says", keys: ", unique: [[name]]", source: r{"A name=x"}, target: r{"A name=y", "B name=x"},
		want: r{"conflict item/A (taken): name ?; blocker value-taken", "target-only item/B"}},
	{name: "a value is taken in another case, which the target takes for the same", columns: map[string]string{"name": "TEXT COLLATE NOCASE UNIQUE"}, source: r{"A name=abc", "C name=c"}, target: r{"A name=y", "B name=ABC", "C name=C"},
		want: r{"conflict item/A (taken): name ?; blocker value-taken", "changed item/C: name ?", "target-only item/B"}},
	{name: "values are taken together", ddl: "CREATE UNIQUE INDEX u ON items (name, unit_id);", source: r{"unit:g", "A name=x unit=g", "C name=x"}, target: r{"unit:g", "A name=x", "B name=x unit=g", "C name=y"},
		want: r{"conflict item/A (taken): unit_id ?; blocker value-taken", "changed item/C: name ?", "target-only item/B"}},
	{name: "a value is given up by another record", columns: map[string]string{"name": "TEXT UNIQUE"}, source: r{"A name=x", "B name=z"}, target: r{"A name=y", "B name=x"},
		want: r{"changed item/A: name ?", "changed item/B: name ?"},
		mend: []mend{{code: "value-taken", address: "item/A", steps: r{"> approve item/B"}}}},
	{name: "two records trade their values", columns: map[string]string{"name": "TEXT UNIQUE"}, source: r{"A name=x", "B name=y"}, target: r{"A name=y", "B name=x"},
		want: r{"changed item/A: name ?; blocker value-taken", "changed item/B: name ?; blocker value-taken"},
		mend: []mend{{code: "value-taken", address: "item/A", steps: r{"target B name=w"}}}},
	{name: "two new records want one value", columns: map[string]string{"name": "TEXT UNIQUE"}, source: r{"A name=x", "B name=x"},
		want: r{"new item/A; blocker value-taken", "new item/B; blocker value-taken"},
		mend: []mend{{code: "value-taken", address: "item/A", approve: "*", steps: r{"> decline item/B"}}}},
	{name: "nulls are not each other", columns: map[string]string{"name": "TEXT UNIQUE"}, source: r{"A name=~"}, target: r{"A name=y", "B name=~"}, want: r{"changed item/A: name ?", "target-only item/B"}},

	// References.
	{name: "refers to what neither side of the docket has", source: r{"unit:g", "A unit=g"}, export: "--type item --related none", want: r{"new item/A; blocker missing-reference"},
		mend: []mend{{code: "missing-reference", address: "item/A", steps: r{"target unit:g"}}, {code: "missing-reference", address: "item/A", steps: r{"source A"}}}},
	{name: "refers to what is new", source: r{"unit:g", "A unit=g"}, want: r{"new unit/g", "new item/A"},
		mend: []mend{{code: "reference-not-approved", address: "item/A", steps: r{"> approve unit/g"}}}},
	{name: "a new part of a new record", source: r{"A", "part:A/1"}, want: r{"new item/A", "new part/A/1"},
		mend: []mend{{code: "owner-not-approved", address: "part/A/1", steps: r{"> approve item/A"}}}},
	{name: "refers to what the target has twice", source: r{"unit:g", "A unit=g"}, target: r{"unit:g", "unit:g"}, export: "--type item --related none", want: r{"new item/A; blocker ambiguous-key"}},
	{name: "refers to itself and in a circle", source: r{"A twin=B", "B twin=A", "C twin=C"}, want: r{"new item/A", "new item/B", "new item/C"}},
	{name: "refers to a record that is another one there", source: r{"unit:g name=gram", "A price=2 unit=g"}, target: r{"unit:g name=grain", "A price=1 unit=g"}, export: "--type item --related none",
		want: r{"changed item/A: price ?"}},
	{name: "comes to refer to a record that is another one there", source: r{"unit:g name=gram", "A unit=g"}, target: r{"unit:g name=grain", "A"}, export: "--type item --related none",
		want: r{"changed item/A: unit_id ?; caution referred-differs"}},
	{name: "refers to a record that is the same there", source: r{"unit:g name=gram", "A unit=g"}, target: r{"unit:g name=gram", "A"}, export: "--type item --related none", want: r{"changed item/A: unit_id ?"}},

	// What the target takes.
	{name: "a rule of the target", columns: map[string]string{"price": "DECIMAL(8,2) CONSTRAINT positive CHECK (price > 0)"}, source: r{"A price=-1"}, target: r{"A price=1"},
		want: r{"changed item/A: price ?; blocker value-does-not-fit"},
		mend: []mend{{code: "value-does-not-fit", address: "item/A", steps: r{"source A price=2"}}}},
	{name: "a rule about two fields", ddl: "CREATE TRIGGER none AFTER DELETE ON items BEGIN SELECT 1; END;", columns: map[string]string{"price": "DECIMAL(8,2) CHECK (price > length(name))"},
		source: r{"A price=2 name=aaa", "B price=5 name=bbbb"}, target: r{"A price=2 name=a", "B price=3 name=b"},
		want: r{"changed item/A: name ?; blocker value-does-not-fit", "changed item/B: name ?, price ?"}},
	{name: "a value of another kind", columns: map[string]string{"name": "INTEGER"}, source: r{"A name=abc", "B name=7"},
		want: r{"new item/A; blocker value-does-not-fit", "new item/B"},
		mend: []mend{{code: "value-does-not-fit", address: "item/A", steps: r{"source A name=12"}}}},
	{name: "a value that is required", columns: map[string]string{"name": "TEXT NOT NULL"}, source: r{"A name=~", "B"}, target: r{"A name=a"},
		want: r{"changed item/A: name ?; blocker value-does-not-fit", "new item/B; blocker value-does-not-fit"},
		mend: []mend{{code: "value-does-not-fit", address: "item/A", steps: r{"source A name=b"}}}},
	{name: "a required field that the parcel does not carry", columns: map[string]string{"made": "TEXT NOT NULL"}, source: r{"A"},
		want: r{"caution not-on-both-sides", "new item/A; blocker value-does-not-fit"},
		mend: []mend{{code: "value-does-not-fit", address: "item/A", steps: r{"sql ALTER TABLE items DROP COLUMN made", "sql ALTER TABLE items ADD COLUMN made TEXT NOT NULL DEFAULT 'x'"}}}},
	{name: "a required field that a trigger may fill", columns: map[string]string{"made": "TEXT NOT NULL"}, ddl: "CREATE TRIGGER fills AFTER INSERT ON items BEGIN UPDATE items SET name = 'x' WHERE id = new.id; END;", source: r{"A"},
		want: r{"caution not-on-both-sides", "new item/A; caution value-does-not-fit"}},

	// Fields and types that only one side has; local and secret fields.
	{name: "a field that only the source has", columns: map[string]string{"price": "-"}, source: r{"A price=1 name=a"}, target: r{"A name=b"}, want: r{"caution not-on-both-sides", "changed item/A: name ?"}},
	{name: "a field that only the target has", columns: map[string]string{"made": "TEXT"}, source: r{"A name=a"}, target: r{"A name=b made=x"}, want: r{"caution not-on-both-sides", "changed item/A: name ?"}},
	{name: "a type that only the source has", ddl: "DROP TABLE settings;", source: r{"setting:X value=1", "A"}, target: r{"A"}, want: r{"caution not-on-both-sides"}},
	{name: "a local field of a record that is there", keys: ", local: {port: {}}", columns: map[string]string{"port": "TEXT NOT NULL"}, source: r{"A price=2 port=1"}, target: r{"A price=1 port=2"}, want: r{"changed item/A: price ?"}},
	{name: "a local field of a new record", keys: ", local: {port: {}}", columns: map[string]string{"port": "TEXT"}, source: r{"A port=1"}, want: r{"new item/A; caution local-needed"}},
	{name: "a local field of a new record, required", keys: ", local: {port: {}}", columns: map[string]string{"port": "TEXT NOT NULL"}, source: r{"A port=1"}, want: r{"new item/A; blocker local-needed"},
		mend: []mend{{code: "local-needed", address: "item/A", steps: r{"catalog , local: {port: {target: '7'}}"}}}},
	{name: "a local field of a new record, given", keys: ", local: {port: {target: '7'}}", columns: map[string]string{"port": "TEXT NOT NULL"}, source: r{"A port=1"}, want: r{"new item/A"}},
	{name: "a secret field of a new record, required", keys: ", secret: [token]", columns: map[string]string{"token": "TEXT NOT NULL"}, source: r{"A token=s"}, want: r{"new item/A; blocker local-needed"},
		mend: []mend{{code: "local-needed", address: "item/A", steps: r{"target A token=t"}}}},
	{name: "a secret field that differs", keys: ", secret: [token]", columns: map[string]string{"token": "TEXT"}, source: r{"A token=s"}, target: r{"A token=t"}, want: r{}},

	// Records that changed their key.
	{name: "looks renamed", source: r{"B name=a_long_name price=1"}, target: r{"A name=a_long_name price=1"}, want: r{"new item/B; caution looks-renamed", "target-only item/A; caution looks-renamed"}},
	{name: "parts of what looks renamed are not pointed at", source: r{"B name=a_long_name", "part:B/1 note=another_long_text"}, target: r{"A name=a_long_name", "part:A/1 note=another_long_text"},
		want: r{"new item/B; caution looks-renamed", "target-only item/A; caution looks-renamed", "new part/B/1", "target-only part/A/1"}},
	{name: "does not look renamed", source: r{"B name=a_long_name price=1"}, target: r{"A name=another_name price=2"}, want: r{"new item/B", "target-only item/A"}},
	{name: "paired", source: r{"B name=a"}, target: r{"A name=a"}, before: pairs("item/A item/B"), want: r{"changed item/B: code ?"}},
	{name: "paired, and agreed before", agreed: r{"A name=a price=1"}, source: r{"B name=b price=1"}, target: r{"A name=a price=2"}, before: pairs("item/A item/B"),
		want: r{"changed item/B: code source, name source, price target"}},
	{name: "paired, and renamed in the target", agreed: r{"B name=a"}, source: r{"B name=a"}, target: r{"A name=a"}, before: pairs("item/A item/B"), want: r{"target-edit item/B: code target"}},
	{name: "paired twice in a row", source: r{"C name=a"}, target: r{"A name=a"}, before: pairs("item/A item/B", "item/B item/C"), want: r{"changed item/C: code ?"}},
	{name: "parts and references of a paired record follow", source: r{"B", "part:B/1 note=x", "part:B/2 note=n", "C twin=B"}, target: r{"A", "part:A/1 note=y", "C twin=A"}, before: pairs("item/A item/B"),
		want: r{"changed item/B: code ?", "changed part/B/1: note ?", "new part/B/2"}},
	{name: "paired, but the target has both", source: r{"B name=a"}, target: r{"A name=a", "B name=a"}, before: pairs("item/A item/B"), want: r{"caution pair-not-used", "target-only item/A"}},
	{name: "paired, and renamed by hand meanwhile", source: r{"B name=a"}, target: r{"B name=a"}, before: pairs("item/A item/B"), want: r{}},

	// The whole docket.
	{name: "a setting that must agree and does", config: "must_agree: [setting/ZONE]\n", source: r{"setting:ZONE value=x"}, target: r{"setting:ZONE value=x"}, want: r{}},
	{name: "a setting that must agree and does not", config: "must_agree: [setting/ZONE]\n", source: r{"setting:ZONE value=x", "A"}, target: r{"setting:ZONE value=y"},
		want: r{"blocker must-agree", "changed setting/ZONE: value ?", "new item/A"},
		mend: []mend{{code: "must-agree", address: "", steps: r{"sql UPDATE settings SET value = 'x'"}}, {code: "must-agree", address: "", steps: r{"config must_agree: []\n"}}}},
	{name: "a setting that must agree and is not there", config: "must_agree: [setting/ZONE]\n", source: r{"setting:ZONE value=x"}, want: r{"blocker must-agree", "new setting/ZONE"}},
	{name: "releases that are not known", config: release("minor", ""), source: r{"A"}, want: r{"caution release", "new item/A"}},
	{name: "releases that differ a little", config: release("minor", "8.4.2"), source: r{"setting:VERSION value=8.4.1"}, want: r{"caution release", "new setting/VERSION"}},
	{name: "releases that differ", config: release("exact", "8.4.2"), source: r{"setting:VERSION value=8.4.1", "A"}, want: r{"blocker release", "new setting/VERSION", "new item/A"},
		mend: []mend{{code: "release", address: "", steps: r{"source -setting:VERSION", "source setting:VERSION value=8.4.2"}}, {code: "release", address: "", steps: r{"config " + release("off", "8.4.2")}}}},
	{name: "an old parcel", export: "--as-folder", source: r{"A"}, target: r{"A"}, before: aged, want: r{"caution old-parcel"}},
	{name: "the source moved on", source: r{"A changed=2026-01-01_00:00:00"}, target: r{"A"}, want: r{"caution source-moved"},
		before: func(p *place) { p.put("source", "A price=2 changed=2026-01-02_00:00:00") }},
	{name: "another docket is open", source: r{"A"}, want: r{"caution open-docket", "new item/A"},
		before: func(p *place) { p.must(3, "match", "p", "--against", "target"); p.must(0, "approve", "*") }},
	{name: "an import was interrupted", source: r{"A", "B"}, target: r{"B"}, want: r{"blocker unfinished-import", "new item/A"}, before: interrupted,
		mend: []mend{{code: "unfinished-import", address: "", steps: r{"> import 1", "source A price=3"}}}},
}

func pairs(of ...string) func(*place) {
	return func(p *place) {
		for _, pair := range of {
			p.must(0, append([]string{"pair"}, strings.Fields(pair)...)...)
		}
	}
}

// release makes the releases known: the source's by a setting, the target's by a text.
func release(policy, target string) string {
	if target != "" {
		target = "release: '" + target + "', "
	}
	return "environments:\n  source: {connect: \"sqlite:source.db\", release: {setting: setting/VERSION}}\n" +
		"  target: {connect: \"sqlite:target.db\", " + target + "guard: {release: " + policy + "}}\n"
}

// aged makes the parcel one that was exported long ago.
func aged(p *place) {
	text := string(p.read("parcels/p/parcel.json"))
	at := strings.Index(text, `"exported_at": "`) + len(`"exported_at": "`)
	require.NoError(p.t, os.WriteFile(p.path("parcels/p/parcel.json"), []byte(text[:at]+"2026-01-02"+text[at+len("2026-01-02"):]), 0o600))
	p.must(0, "parcel", "reseal", "p", "--note", "older")
}

// interrupted leaves a docket whose import began and never ended.
func interrupted(p *place) {
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "item/A")
	d, err := register.Open(context.Background(), &workspace.Workspace{Dir: p.dir}, 1)
	require.NoError(p.t, err)
	defer d.Close()
	_, err = runs.Start(context.Background(), d, runs.ImportRun, "mara", time.Now())
	require.NoError(p.t, err)
}
