package test

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A case is what two databases hold and what a match of them finds. Records are written
// as "A price=2 unit=mg", an item unless a type stands before its key as in "part:A/1";
// ~ is null, ! the empty text and _ a blank. A finding is written as its status, address and reasons, the
// fields that differ with the side that moved them, and its checks:
//
//	conflict item/A (both-moved): price both; caution both-moved
//
// Checks on the whole docket stand by themselves.
type matchCase struct {
	name    string
	agreed  []string // what both sides had in an earlier match; nil for no earlier match
	source  []string
	target  []string
	columns map[string]string // of items in the target that are other than usual; port and token are in the source as well
	ddl     string            // run on the target's tables before its records
	keys    string            // more of the catalog's type item
	config  string            // more of anagram.yaml
	export  string            // options of the export
	before  func(*place)      // after the export, before the match
	want    []string
	mend    []mend
}

// mend is a blocker and the steps that its mend names: "source RECORD" and "target RECORD"
// write a record, "source -A" takes one out, "catalog TEXT" replaces keys, "config TEXT"
// replaces config, "sql STATEMENT" runs one on the target, "> COMMAND" is a command.
// After changes of data everything is exported and matched again.
type mend struct {
	code, address string
	steps         []string
	approve       string // what is approved before, "" for the address
}

var itemColumns = []string{"code TEXT", "name TEXT", "price DECIMAL(8,2)", "status TEXT DEFAULT 'A'", "unit_id INTEGER", "twin_id INTEGER", "changed DATETIME", "who TEXT"}

func tables(columns map[string]string) string {
	items := "id INTEGER PRIMARY KEY"
	for _, column := range itemColumns {
		name, _, _ := strings.Cut(column, " ")
		if other, ok := columns[name]; ok {
			column = name + " " + other
		}
		if column != name+" -" {
			items += ", " + column
		}
	}
	for _, more := range []string{"made", "port", "token"} {
		if other, ok := columns[more]; ok {
			items += ", " + more + " " + other
		}
	}
	return "CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT, name TEXT); CREATE TABLE items (" + items + ");" +
		"CREATE TABLE parts (id INTEGER PRIMARY KEY, item_id INTEGER, no INTEGER, note TEXT); CREATE TABLE settings (code TEXT, value TEXT);"
}

func (c matchCase) catalog(keys string) string {
	return "types:\n  setting: {at: settings, key: [code]}\n  unit: {at: units, key: [code], id: id}\n" +
		"  item: {at: items, key: [code], id: id, refers: {unit_id: unit, twin_id: item}, stamp: {at: changed, by: who}, retired: {field: status, values: [R]}" + keys + "}\n" +
		"  part: {at: parts, key: [item_id, no], id: id, refers: {item_id: item}, part_of: item}\n"
}

func (c matchCase) settings(more string) string {
	if strings.HasPrefix(more, "environments:") {
		return more
	}
	return "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n" + more
}

// insert gives the statements that write a record. Its id is to be put in for {first},
// where it is the first of all, and same for {same}, where it takes the place of another.
func insert(line string) (statements, twins, same string) {
	words := strings.Fields(line)
	typ, key, typed := strings.Cut(words[0], ":")
	if !typed {
		typ, key = "item", words[0]
	}
	text := func(s string) string {
		switch s {
		case "~":
			return "NULL"
		case "!":
			return "''"
		}
		return "'" + strings.ReplaceAll(strings.ReplaceAll(s, "_", " "), "'", "''") + "'"
	}
	where := "code IS " + text(key)
	columns, values := []string{"code"}, []string{text(key)}
	if typ == "part" {
		item, no, _ := strings.Cut(key, "/")
		columns, values = []string{"item_id", "no"}, []string{"(SELECT id FROM items WHERE code = " + text(item) + ")", no}
		where = "item_id = " + values[0] + " AND no = " + no
	}
	for _, word := range words[1:] {
		name, value, _ := strings.Cut(word, "=")
		switch name {
		case "unit":
			columns, values = append(columns, "unit_id"), append(values, "(SELECT id FROM units WHERE code = "+text(value)+")")
		case "twin":
			twins += fmt.Sprintf("UPDATE items SET twin_id = (SELECT id FROM items WHERE code = %s) WHERE code = %s;", text(value), text(key))
		default:
			columns, values = append(columns, name), append(values, text(value))
		}
	}
	if typ != "setting" {
		columns, values = append(columns, "id"), append(values, fmt.Sprintf("coalesce({same}(SELECT max(id) + 1 FROM %ss), {first})", typ))
		same = fmt.Sprintf("(SELECT id FROM %ss WHERE %s), ", typ, where)
	}
	statement := fmt.Sprintf("INSERT INTO %ss (%s) VALUES (%s);", typ, strings.Join(columns, ", "), strings.Join(values, ", "))
	return statement, twins, same
}

// fill writes records into a database; the internal ids of the two sides differ.
func (p *place) fill(name string, records []string) {
	p.t.Helper()
	first := map[string]int{"source": 1, "target": 501}[name]
	all, twins := "", ""
	for _, line := range records {
		statement, twin, _ := insert(line)
		all, twins = all+statement, twins+twin
	}
	p.sql(name, strings.NewReplacer("{first}", fmt.Sprint(first), "{same}", "").Replace(all)+twins)
}

// put writes one record in place of the one with its key.
func (p *place) put(name, line string) {
	p.t.Helper()
	if gone, ok := strings.CutPrefix(line, "-"); ok {
		typ, key, typed := strings.Cut(gone, ":")
		if !typed {
			typ, key = "item", gone
		}
		p.sql(name, fmt.Sprintf("DELETE FROM %ss WHERE code = '%s'", typ, key))
		return
	}
	statement, twins, same := insert(line)
	table := strings.Fields(statement)[2]
	set := fmt.Sprintf("INSERT OR REPLACE INTO %s", table)
	statement = strings.NewReplacer("{first}", "900", "{same}", same).Replace(statement)
	p.sql(name, strings.Replace(statement, "INSERT INTO "+table, set, 1)+twins)
}

// build makes the workspace of a case and exports its source.
func (c matchCase) build(t *testing.T) *place {
	local := map[string]string{}
	for _, name := range []string{"port", "token"} {
		if _, ok := c.columns[name]; ok {
			local[name] = "TEXT"
		}
	}
	p := newPlace(t, c.catalog(c.keys), tables(local), tables(c.columns)+c.ddl)
	p.write("anagram.yaml", c.settings(c.config))
	if c.agreed != nil {
		p.fill("source", c.agreed)
		p.fill("target", c.agreed)
		p.must(0, "match", "source", "--against", "target", "--name", "agreed")
		for _, name := range []string{"source", "target"} {
			p.sql(name, "DELETE FROM parts; DELETE FROM items; DELETE FROM units; DELETE FROM settings")
		}
	}
	p.fill("source", c.source)
	p.fill("target", c.target)
	p.must(0, append([]string{"export", "source", "--name", "p"}, strings.Fields(c.export)...)...)
	if c.before != nil {
		c.before(p)
	}
	return p
}

// found matches and gives the findings as a case writes them.
func (p *place) found(parcel string) []string {
	p.t.Helper()
	doc := p.json(matched, "match", parcel, "--against", "target")
	out := []string{}
	for _, c := range doc["checks"].([]any) {
		check := c.(map[string]any)
		out = append(out, fmt.Sprintf("%s %s", check["level"], check["code"]))
	}
	reviewed := p.must(0, "review", "--json").out
	for line := range strings.Lines(reviewed) {
		f := readFinding(p.t, line)
		text := f.Status + " " + f.Address
		if len(f.Reasons) > 0 {
			text += " (" + strings.Join(f.Reasons, ", ") + ")"
		}
		var fields []string
		both := slices.ContainsFunc(f.Fields, func(field shownField) bool { return field.Target != nil || field.Moved != "source" })
		for _, field := range f.Fields {
			if !both || f.Status == "target-only" {
				continue // it is on one side only
			}
			moved := field.Moved
			if moved == "" {
				moved = "?"
			}
			fields = append(fields, field.Field+" "+moved)
		}
		if len(fields) > 0 {
			text += ": " + strings.Join(fields, ", ")
		}
		for _, check := range f.Checks {
			assert.True(p.t, strings.HasSuffix(check.Message, ".") && strings.HasSuffix(check.Mend, "."), "%s %s", check.Message, check.Mend)
			text += "; " + check.Level + " " + check.Code
		}
		out = append(out, text)
	}
	return out
}

func TestEachCaseOfTheRules(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	names := map[string]bool{}
	for i, c := range matchCases {
		assert.False(t, names[c.name], "two cases are called %s", c.name)
		names[c.name] = true
		for _, line := range c.want {
			for _, word := range strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" ;:,()", r) }) {
				seen[word] = true
			}
		}
		if skips(i) {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.want, c.build(t).found("p"))
		})
	}
	assert.GreaterOrEqual(t, len(matchCases), 60)
	for _, word := range strings.Fields(`conflict changed new target-edit target-only both-moved target-newer retired-in-target removed-in-target taken ambiguous
		missing-reference ambiguous-key value-does-not-fit value-taken must-agree release unfinished-import not-on-both-sides local-needed referred-differs
		looks-renamed old-parcel source-moved open-docket pair-not-used`) {
		assert.True(t, seen[word], "no case shows %s", word)
	}
}

// TestMendsTakeBlockersAway does literally what the mends of blockers say.
func TestMendsTakeBlockersAway(t *testing.T) {
	t.Parallel()
	inGate(t, "every mend in turn")
	mended := map[string]bool{}
	for _, c := range matchCases {
		for _, m := range c.mend {
			mended[m.code] = true
			t.Run(c.name+"/"+strings.Join(m.steps, " | "), func(t *testing.T) {
				t.Parallel()
				p := c.build(t)
				p.must(matched, "match", "p", "--against", "target")
				if approve := m.approve; m.address != "" {
					if approve == "" {
						approve = m.address
					}
					p.run("approve", approve, "--take", "source")
				}
				require.True(t, p.stands(m), "the blocker is there before")
				again := false
				for _, step := range m.steps {
					what, rest, _ := strings.Cut(step, " ")
					switch what {
					case "source", "target":
						p.put(what, rest)
						again = true
					case "sql":
						p.sql("target", rest)
						again = true
					case "catalog":
						p.write("catalog.yaml", c.catalog(rest))
						again = true
					case "config":
						p.write("anagram.yaml", c.settings(rest))
						again = true
					default:
						p.must(matched, strings.Fields(rest)...)
					}
				}
				if again {
					p.must(matched, "match", "source", "--against", "target", "--name", "again")
				}
				assert.False(t, p.stands(m), "%v", p.review()[m.address].Checks)
			})
		}
	}
	for _, code := range strings.Fields("missing-reference owner-not-approved reference-not-approved ambiguous-key value-does-not-fit value-taken must-agree release unfinished-import local-needed broken-seal no-right key-in-use") {
		assert.True(t, mended[code] || elsewhere[code], "no mend of %s is followed", code)
	}
}

// elsewhere are blockers whose mends other tests follow: TestAnAccountThatMayOnlyDoPart,
// TestOneFlippedByteIsRefusedEverywhere and TestAKeyThatOthersHold.
var elsewhere = map[string]bool{"no-right": true, "broken-seal": true, "key-in-use": true}

// stands reports whether a blocker is there: on a finding, or on the whole docket.
func (p *place) stands(m mend) bool {
	p.t.Helper()
	if m.address != "" {
		return slices.ContainsFunc(p.review()[m.address].Checks, func(c struct{ Code, Level, Message, Mend string }) bool {
			return c.Code == m.code && c.Level == "blocker"
		})
	}
	p.must(0, "approve", "*")
	r := p.run("import", "--rehearse")
	return r.code == 4 && strings.Contains(r.out+r.err, m.code+":")
}

// docket runs statements in a docket's file.
func (p *place) docket(number int, statements string) {
	p.t.Helper()
	p.docketFile(fmt.Sprintf("dockets/%04d.docket", number), statements)
}

func (p *place) docketFile(name, statements string) {
	p.t.Helper()
	db, err := sql.Open("sqlite", "file:"+p.path(name))
	require.NoError(p.t, err)
	defer db.Close()
	_, err = db.Exec(statements)
	require.NoError(p.t, err)
}
