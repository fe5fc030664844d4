package conformance

import (
	"context"
	"fmt"
	"sort"
	"strings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// References in every form, and a table that holds two kinds of records.
const formsSource = `
types:
  ward: {at: wards, key: [site, no]}
  bed: {at: beds, key: [ward, no], id: id, refers: {ward: {to: ward, columns: {site: site, ward_no: no}}}}
  guest: {at: guests, key: [name], refers: {bed: {to: bed, columns: {site: site, bed_id: id}}, site: {to: site, by: key}}}
  site: {at: sites, key: [code], id: id}
  assay: {at: items, key: [code], id: id, only: "kind == 'A'"}
  panel: {at: items, key: [code], id: id, only: "kind == 'P'"}
  result: {at: results, key: [item_id, no], refers: {item_id: assay}, part_of: assay}
  sample: {at: samples, key: [no], refers: {item_id: [assay, panel]}}
  note: {at: notes, key: [object_type, object_id, lang], refers: {object_id: {by: object_type, to: {A: assay, P: panel, W: bed}}}}
  formula:
    at: formulas
    key: [code]
    refers:
      content: {inside: [{to: assay, pattern: "{ID}"}, {to: bed, pattern: "#ID"}]}
      members: {to: assay, list: ","}
      rule: {to: assay, path: "$.when[*].id"}
`

var formsStatements = []string{
	`CREATE TABLE sites (id {id}, code {text} NOT NULL UNIQUE)`,
	`CREATE TABLE wards (site {text} NOT NULL, no {integer} NOT NULL, name {text}, PRIMARY KEY (site, no))`,
	`CREATE TABLE beds (id {id}, site {text}, ward_no {integer}, no {integer}, name {text})`,
	`CREATE TABLE guests (name {text}, site {text}, bed_id {integer})`,
	`CREATE TABLE items (id {id}, kind {text}, code {text}, amount {decimal})`,
	`CREATE TABLE results (item_id {integer}, no {integer}, note {text})`,
	`CREATE TABLE samples (no {integer}, item_id {integer})`,
	`CREATE TABLE notes (object_type {text}, object_id {integer}, lang {text}, note {text})`,
	`CREATE TABLE formulas (code {text}, content {text}, members {text}, rule {json})`,
	`INSERT INTO sites VALUES (1, 'N'), (2, 'S')`,
	`INSERT INTO wards VALUES ('N', 1, 'north one'), ('N', 2, 'north two'), ('S', 1, 'south one')`,
	`INSERT INTO beds VALUES (51, 'N', 2, 7, 'window'), (52, 'S', 1, 7, 'door'), (53, NULL, NULL, 9, 'stray')`,
	`INSERT INTO guests VALUES ('Ada', 'N', 51), ('Bo', 'S', NULL)`,
	`INSERT INTO items VALUES (61, 'A', 'GLU', 1.5), (62, 'P', 'GLU', NULL), (63, 'A', 'K', 20), (64, 'X', 'OLD', 3), (65, NULL, 'NONE', NULL)`,
	`INSERT INTO results VALUES (61, 1, 'of GLU'), (62, 1, 'of a panel'), (64, 1, 'of nothing here')`,
	`INSERT INTO samples VALUES (1, 61), (2, 62), (3, NULL)`,
	`INSERT INTO notes VALUES ('A', 61, 'en', 'on the assay'), ('P', 62, 'en', 'on the panel'), ('W', 52, 'en', 'on the bed'), ('A', NULL, 'en', 'on none')`,
	`INSERT INTO formulas VALUES ('F1', '{61} / {63} at #51', '63, 61', '{"when": [{"id": 61, "above": 61}, {"id": "63"}], "id": 1}'), ('F2', 'no {x} id', '', NULL), ('F3', NULL, NULL, '[]')`,
}

func (b *bench) all(from environment.Reader, types ...string) []string {
	var out []string
	for _, typ := range types {
		out = append(out, b.lines(from, typ, nil)...)
	}
	return out
}

var formsLines = []string{
	`bed/~/~/9 {"key":[null,9],"values":{"name":"stray"}}`,
	`bed/N/2/7 {"key":[["N",2],7],"values":{"name":"window"}}`,
	`bed/S/1/7 {"key":[["S",1],7],"values":{"name":"door"}}`,
	`guest/Ada {"key":["Ada"],"values":{"bed":[["N",2],7],"site":["N"]}}`,
	`guest/Bo {"key":["Bo"],"values":{"bed":null,"site":["S"]}}`,
	`assay/GLU {"key":["GLU"],"values":{"amount":"1.5","kind":"A"}}`,
	`assay/K {"key":["K"],"values":{"amount":"20","kind":"A"}}`,
	`panel/GLU {"key":["GLU"],"values":{"amount":null,"kind":"P"}}`,
	`result/GLU/1 {"key":[["GLU"],1],"values":{"note":"of GLU"}}`,
	`sample/1 {"key":[1],"values":{"item_id":{"to":"assay","key":["GLU"]}}}`,
	`sample/2 {"key":[2],"values":{"item_id":{"to":"panel","key":["GLU"]}}}`,
	`sample/3 {"key":[3],"values":{"item_id":null}}`,
	`note/A/~/en {"key":["A",null,"en"],"values":{"note":"on none"}}`,
	`note/A/assay/GLU/en {"key":["A",{"to":"assay","key":["GLU"]},"en"],"values":{"note":"on the assay"}}`,
	`note/P/panel/GLU/en {"key":["P",{"to":"panel","key":["GLU"]},"en"],"values":{"note":"on the panel"}}`,
	`note/W/bed/S/1/7/en {"key":["W",{"to":"bed","key":[["S",1],7]},"en"],"values":{"note":"on the bed"}}`,
	`formula/F1 {"key":["F1"],"values":{"content":{"woven":["{",{"to":"assay","key":["GLU"]},"} / {",{"to":"assay","key":["K"]},"} at #",{"to":"bed","key":[["N",2],7]}]},` +
		`"members":{"woven":[{"to":"assay","key":["K"]},", ",{"to":"assay","key":["GLU"]}]},` +
		`"rule":{"woven":["{\"id\":1,\"when\":[{\"above\":61,\"id\":",{"to":"assay","key":["GLU"]},"},{\"id\":\"",{"to":"assay","key":["K"]},"\"}]}"]}}}`,
	`formula/F2 {"key":["F2"],"values":{"content":{"woven":["no {x} id"]},"members":{"woven":[]},"rule":null}}`,
	`formula/F3 {"key":["F3"],"values":{"content":null,"members":null,"rule":{"woven":["[]"]}}}`,
}

func readsForms(b *bench) {
	env := b.open(true)
	assert.Equal(b, formsLines, b.all(env, "bed", "guest", "assay", "panel", "result", "sample", "note", "formula"))
	for typ, outside := range map[string]int{"assay": 3, "panel": 4, "result": 2, "sample": 0} {
		n := 0
		for _, err := range env.Read(context.Background(), b.model, environment.Reading{Type: typ, Fields: b.fields[typ], Outside: &n}) {
			require.NoError(b, err)
		}
		assert.Equal(b, outside, n, "records outside %s", typ)
	}
	counts := func(typ string, keys ...string) []int {
		var all []record.Key
		for _, key := range keys {
			all = append(all, b.key(typ, key))
		}
		out, err := env.Locate(context.Background(), b.model, typ, all)
		require.NoError(b, err)
		return out
	}
	assert.Equal(b, []int{1, 0, 0}, counts("assay", `["GLU"]`, `["OLD"]`, `["NONE"]`))
	assert.Equal(b, []int{1, 0}, counts("result", `[["GLU"],1]`, `[["OLD"],1]`))
	assert.Equal(b, []int{1, 1, 0, 1}, counts("bed", `[["N",2],7]`, `[null,9]`, `[["N",1],7]`, `[["S",1],7]`))
	assert.Equal(b, []int{1, 0, 1}, counts("note", `["P",{"to":"panel","key":["GLU"]},"en"]`,
		`["A",{"to":"panel","key":["GLU"]},"en"]`, `["A",null,"en"]`))
	assert.Len(b, b.lines(env, "result", []record.Key{b.key("result", `[["GLU"],1]`)}), 1)
}

func writesForms(b *bench) {
	ctx := context.Background()
	b.engine.Exec(b.T, `UPDATE items SET id = id + 1000 WHERE kind = 'A'`) // what is put back must be looked up
	b.engine.Exec(b.T, `UPDATE results SET item_id = item_id + 1000 WHERE item_id = 61`)
	b.engine.Exec(b.T, `UPDATE samples SET item_id = item_id + 1000 WHERE item_id = 61`)
	b.engine.Exec(b.T, `UPDATE notes SET object_id = object_id + 1000 WHERE object_type = 'A'`)
	b.engine.Exec(b.T, `DELETE FROM formulas WHERE code = 'F1'`)
	work, err := b.open(false).Begin(ctx, nil)
	require.NoError(b, err)
	values := func(line string) string {
		return line[strings.Index(line, `"values":`)+len(`"values":`) : len(line)-1]
	}
	f1 := formsLines[16]
	b.write(work,
		b.change("ward", true, `["S",2]`, `{"name":"new"}`),
		b.change("bed", true, `[["S",2],1]`, `{"name":"fresh"}`),
		b.change("bed", false, `[["N",2],7]`, `{"name":"by the window"}`),
		b.change("guest", true, `["Cy"]`, `{"bed":[["S",2],1],"site":["S"]}`),
		b.change("guest", false, `["Bo"]`, `{"bed":[["S",1],7]}`),
		b.change("guest", false, `["Ada"]`, `{"bed":null}`),
		b.change("assay", true, `["NEW"]`, `{"kind":"A"}`),
		b.change("result", true, `[["NEW"],1]`, `{"note":"n"}`),
		b.change("sample", false, `[3]`, `{"item_id":{"to":"panel","key":["GLU"]}}`),
		b.change("note", true, `["A",{"to":"assay","key":["NEW"]},"de"]`, `{"note":"neu"}`),
		b.change("note", false, `["W",{"to":"bed","key":[["S",1],7]},"en"]`, `{"note":"moved"}`),
		b.change("formula", true, `["F1"]`, values(f1)),
		b.change("formula", false, `["F2"]`,
			`{"content":{"woven":["{",{"to":"assay","key":["NEW"]},"}"]},"members":{"woven":[{"to":"assay","key":["NEW"]}]}}`),
	)
	require.NoError(b, work.Commit(ctx))
	after := b.open(true)
	want := append([]string{
		`bed/S/2/1 {"key":[["S",2],1],"values":{"name":"fresh"}}`,
		`guest/Cy {"key":["Cy"],"values":{"bed":[["S",2],1],"site":["S"]}}`,
		`assay/NEW {"key":["NEW"],"values":{"amount":null,"kind":"A"}}`,
		`result/NEW/1 {"key":[["NEW"],1],"values":{"note":"n"}}`,
		`note/A/assay/NEW/de {"key":["A",{"to":"assay","key":["NEW"]},"de"],"values":{"note":"neu"}}`,
	}, formsLines...)
	for i, line := range want {
		for from, to := range map[string]string{
			`"name":"window"`: `"name":"by the window"`, `"bed":null,"site":["S"]`: `"bed":[["S",1],7],"site":["S"]`,
			`"bed":[["N",2],7],"site":["N"]`: `"bed":null,"site":["N"]`,
			`[3],"values":{"item_id":null}`:  `[3],"values":{"item_id":{"to":"panel","key":["GLU"]}}`, "on the bed": "moved",
			`{"woven":["no {x} id"]},"members":{"woven":[]}`: `{"woven":["{",{"to":"assay","key":["NEW"]},"}"]},"members":{"woven":[{"to":"assay","key":["NEW"]}]}`,
		} {
			line = strings.Replace(line, from, to, 1)
		}
		want[i] = line
	}
	got := b.all(after, "bed", "guest", "assay", "panel", "result", "sample", "note", "formula")
	sort.Strings(want)
	sort.Strings(got)
	assert.Equal(b, want, got)
}

func saysWrongForms(b *bench) {
	read := func(typ string) (said string) {
		env := b.engine.Open(b.T, true)
		defer env.Close()
		for rec, err := range env.Read(context.Background(), b.model, environment.Reading{Type: typ, Fields: b.fields[typ],
			Unkeyed: func(id, why string) error {
				said += "id " + id + ": " + why
				return nil
			}}) {
			if err != nil {
				return err.Error()
			}
			for i, v := range rec.Values {
				if why, unreadable := v.Unreadable(); unreadable {
					said += fmt.Sprintf("%s, field %s: %s", b.model.Catalog.Address(typ, rec.Key), b.fields[typ][i].Name, why)
				}
			}
		}
		return said
	}
	b.engine.Exec(b.T, `UPDATE formulas SET content = '{999}' WHERE code = 'F2'`)
	assert.Contains(b, read("formula"),
		"formula/F2, field content: pattern {ID}: it refers to assay with internal id 999, which is not in items")
	b.engine.Exec(b.T, `UPDATE formulas SET content = '{62}' WHERE code = 'F2'`)
	assert.Contains(b, read("formula"),
		"formula/F2 in suite, field content: pattern {ID}: it refers to a record that only: in the catalog leaves out")
	b.engine.Exec(b.T, `UPDATE samples SET item_id = 64 WHERE no = 1`)
	assert.Contains(b, read("sample"), "sample/1 in suite, field item_id: it refers to a record that only:")
	b.engine.Exec(b.T, `UPDATE notes SET object_type = 'Z' WHERE lang = 'en' AND object_type = 'P'`)
	assert.Contains(b, read("note"), `its object_type is "Z", for which to: of object_id in the catalog names no record type`)
	b.engine.Exec(b.T, `UPDATE beds SET ward_no = 5 WHERE id = 51`)
	assert.Contains(b, read("bed"), "it refers to ward with internal id N, 5, which is not in wards")
	ctx := context.Background()
	work, err := b.open(false).Begin(ctx, nil)
	require.NoError(b, err)
	for _, c := range []struct {
		change environment.Change
		want   string
	}{
		{b.change("formula", false, `["F3"]`, `{"content":{"woven":["{",{"to":"assay","key":["NONE"]},"}"]}}`),
			"field content: it refers to assay/NONE, which is not there"},
		{b.change("formula", false, `["F3"]`, `{"content":{"woven":["{",{"to":"assay","key":["GLU"]},"} {7}"]}}`),
			`"7" is no internal id in the source, and would be one here`},
		{b.change("formula", false, `["F3"]`, `{"content":{"woven":["{ ",{"to":"assay","key":["GLU"]},"}"]}}`),
			"could not be told from the text around it there"},
		{b.change("guest", false, `["Bo"]`, `{"bed":[["N",2],8]}`), "field bed: it refers to bed/N/2/8, which is not there"},
		{b.change("guest", true, `["Di"]`, `{"bed":[["S",1],7],"site":["N"]}`),
			`field site: it needs "N" in column site, where another field of the record needs "S"`},
		{b.change("note", true, `["A",{"to":"bed","key":[["S",1],7]},"de"]`, `{}`),
			`it refers to a record of bed, but object_type is "A", which means another record type`},
	} {
		refused, err := work.Write(ctx, b.model, []environment.Change{c.change})
		require.NoError(b, err)
		require.Error(b, refused[0], c.want)
		assert.Contains(b, refused[0].Error(), c.want)
	}
}

// readsWhere compares what the database narrows with what the condition itself decides.
func readsWhere(b *bench) {
	env := b.open(true)
	for text, want := range map[string]string{
		"kind == 'A'": "assay/GLU assay/K", "amount > 1.5": "assay/K", "amount >= 1.5 && code != 'K'": "assay/GLU",
		"amount == null": "", "code in ['K', 'X']": "assay/K",
		"code == 'k'": "", "code == 'K' || code.startsWith('G')": "assay/GLU assay/K", "!(amount < 2)": "assay/K",
		"amount in [1.50]": "assay/GLU", "code > 'H'": "assay/K",
	} {
		c, err := condition.Compile(text, "assay", append(b.model.Shapes["assay"], b.fields["assay"]...))
		require.NoError(b, err)
		read := func(r environment.Reading) string {
			var out []string
			for rec, err := range env.Read(context.Background(), b.model, r) {
				require.NoError(b, err, text)
				out = append(out, b.model.Catalog.Address("assay", rec.Key))
			}
			sort.Strings(out)
			return strings.Join(out, " ")
		}
		r := environment.Reading{Type: "assay", Fields: b.fields["assay"], Where: []*condition.Condition{c}}
		assert.Equal(b, want, read(r), text)
		r.Keys = []record.Key{b.key("assay", `["GLU"]`), b.key("assay", `["K"]`)} // which the database does not narrow
		assert.Equal(b, want, read(r), text)
	}
	c, err := condition.Compile("object_id == 'GLU' && note.contains('assay')", "note", append(b.model.Shapes["note"], b.fields["note"]...))
	require.NoError(b, err)
	for rec, err := range env.Read(context.Background(), b.model, environment.Reading{Type: "note", Where: []*condition.Condition{c}}) {
		require.NoError(b, err)
		assert.Equal(b, "note/A/assay/GLU/en", b.model.Catalog.Address("note", rec.Key))
	}
}
