// Package conformance is the shared test of connectors to SQL databases: a new one passes it
// on a real database before anything else is built on it.
package conformance

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/tests"
)

// Engine is a database under test, empty at first.
type Engine struct {
	// Words replaces {id}, {text}, {integer}, {decimal}, {boolean}, {date}, {timestamp},
	// {json} and {bytes} in statements by the engine's own column types.
	Words map[string]string
	Exec  func(t *testing.T, statement string)
	Open  func(t *testing.T, readOnly bool) environment.Environment
	// Catalog stands before the catalogs of the suite.
	Catalog string
	// ID is the field of internal ids where it is not id.
	ID string
	// NoBytes says that it holds no values of bytes.
	NoBytes bool
}

const source = `
types:
  node: {at: nodes, key: [parent_id, code], id: id, refers: {parent_id: node}}
  thing: {at: things, key: [code], id: id, refers: {node_id: node}, stamp: {at: changed_at, by: changed_by, write: never}}
  part: {at: parts, key: [thing_id, no], refers: {thing_id: thing}, part_of: thing}
  odd: {at: odds, key: [code], id: id, fold_case: [code]}
  child: {at: children, key: [odd_id, no], id: id, refers: {odd_id: odd}}
`

var statements = []string{
	`CREATE TABLE nodes (id {id}, parent_id {integer}, code {text})`,
	`CREATE TABLE things (id {id}, code {text} NOT NULL UNIQUE, node_id {integer}, name {text}, amount {decimal}, active {boolean}, day {date}, extra {json}, body {bytes}, changed_at {timestamp}, changed_by {text})`,
	`CREATE TABLE parts (thing_id {integer} NOT NULL, no {integer}, note {text})`,
	`CREATE TABLE odds (id {id}, code {text}, note {text})`,
	`CREATE TABLE children (id {id}, odd_id {integer}, no {integer}, note {text})`,
	`INSERT INTO nodes VALUES (11, NULL, 'root'), (12, 11, 'leaf'), (13, NULL, 'leaf')`,
	`INSERT INTO things (id, code, node_id, name, amount, active, day, extra, changed_at, changed_by) VALUES
		(21, 'A', 12, 'Æther ''x''', 12.50, '1', '1898-03-01', '{"b": 1, "a": [true, null]}', '2026-01-02 03:04:05', 'mara'),
		(22, 'B', 13, '', -0.001, '0', NULL, NULL, NULL, NULL), (23, 'C', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)`,
	`INSERT INTO parts VALUES (21, 2, 'two'), (21, 1, 'one'), (22, NULL, 'none')`,
	`INSERT INTO odds VALUES (31, 'Abc', 'x'), (32, 'DEF', 'y'), (33, 'def', 'z')`,
	`INSERT INTO children VALUES (41, 31, 1, 'of Abc'), (42, 32, 1, 'of DEF'), (43, NULL, 1, 'of none')`,
}

type bench struct {
	*testing.T
	engine Engine
	model  *environment.Model
	fields map[string][]record.Field
}

// Run runs the suite; fresh gives a new empty database for each test.
func Run(t *testing.T, fresh func(t *testing.T) Engine) {
	run(t, fresh, source, statements, map[string]func(*bench){
		"reads values, references and stamps": readsEverything,
		"reads by key":                        readsByKey,
		"locates keys":                        locates,
		"writes and translates references":    writes,
		"takes back what is not committed":    rollsBack,
		"names what is refused and goes on":   refuses,
		"writes many at a time":               writesMany(600),
		"locks against a second import":       locks,
		"reads what holds some values":        readsHolding,
		"gives records another key":           rekeys,
		"tries values against rules":          judges,
		"stops when it is cancelled":          cancels,
	})
	run(t, fresh, formsSource, formsStatements, map[string]func(*bench){
		"reads references in every form":  readsForms,
		"writes references in every form": writesForms,
		"says which reference is wrong":   saysWrongForms,
		"reads what fulfils a condition":  readsWhere,
	})
}

// RunService runs what holds for a service that is reached over the web as well: it has no
// transactions and no lock, and nothing in it is tried without being written.
func RunService(t *testing.T, fresh func(t *testing.T) Engine) {
	run(t, fresh, source, statements, map[string]func(*bench){
		"reads values, references and stamps": readsEverything,
		"reads by key":                        readsByKey,
		"locates keys":                        locates,
		"writes and translates references":    writes,
		"names what is refused and goes on":   refuses,
		"writes many at a time":               writesMany(tests.Times(60, 600)), // each in a request or a few
		"reads what holds some values":        readsHolding,
		"gives records another key":           rekeys,
		"stops when it is cancelled":          cancels,
		"writes only what is as expected":     writesExpected,
		"removes what nothing refers to":      removes,
	})
	run(t, fresh, formsSource, formsStatements, map[string]func(*bench){
		"reads references in every form":  readsForms,
		"writes references in every form": writesForms,
		"says which reference is wrong":   saysWrongForms,
		"reads what fulfils a condition":  readsWhere,
	})
}

func run(t *testing.T, fresh func(t *testing.T) Engine, source string, statements []string, tests map[string]func(*bench)) {
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			b := &bench{T: t, engine: fresh(t)}
			for _, statement := range statements {
				if b.engine.NoBytes {
					statement = strings.Replace(statement, ", body {bytes}", "", 1)
				}
				for word, typ := range b.engine.Words {
					statement = strings.ReplaceAll(statement, "{"+word+"}", typ)
				}
				b.engine.Exec(t, statement)
			}
			if b.engine.ID != "" {
				source = strings.ReplaceAll(source, "id: id", "id: "+b.engine.ID)
			}
			c, err := catalog.Parse("suite", []byte(b.engine.Catalog+source))
			require.NoError(t, err)
			env := b.engine.Open(t, true)
			about, err := env.Describe(context.Background())
			require.NoError(t, err)
			require.NoError(t, env.Close())
			assert.NotEmpty(t, about.Product)
			fit := c.Fits("suite", about.Places, nil)
			require.Empty(t, fit.Problems)
			b.model = &environment.Model{Environment: "suite", Catalog: c, Shapes: fit.Shapes}
			b.fields = fit.Fields
			test(b)
		})
	}
}

func (b *bench) open(readOnly bool) environment.Environment {
	env := b.engine.Open(b.T, readOnly)
	b.Cleanup(func() { _ = env.Close() })
	return env
}

// lines reads records as lines, in the order of their keys.
func (b *bench) lines(from environment.Reader, typ string, keys []record.Key) []string {
	b.Helper()
	var all []record.Record
	for rec, err := range from.Read(context.Background(), b.model, environment.Reading{Type: typ, Fields: b.fields[typ], Keys: keys}) {
		require.NoError(b, err)
		all = append(all, rec)
	}
	if keys == nil {
		b.short(from, typ, all)
	}
	slices.SortFunc(all, func(x, y record.Record) int {
		if c := x.Key.Compare(y.Key); c != 0 {
			return c
		}
		return strings.Compare(x.ID, y.ID)
	})
	out := []string{}
	for _, rec := range all {
		out = append(out, b.model.Catalog.Address(typ, rec.Key)+" "+string(record.AppendLine(nil, b.fields[typ], rec)))
	}
	return out
}

var bytesIn = pattern.Of(`,?"body":(null|\{"file":"[^"]*"\})`)

// as gives lines, or what of them this engine can hold.
func (b *bench) as(lines ...string) []string {
	if b.engine.NoBytes {
		for i, line := range lines {
			lines[i] = bytesIn.ReplaceAllString(line, "")
		}
	}
	return lines
}

// short reads a type by lines, which must be those of its records.
func (b *bench) short(from environment.Reader, typ string, all []record.Record) {
	b.Helper()
	told := func(rec record.Record, line []byte) string {
		return fmt.Sprintf("%q %s %q %q %q", rec.Key.Order(), line, rec.ID, rec.ChangedAt, rec.ChangedBy)
	}
	var want, got []string
	for _, rec := range all {
		want = append(want, told(rec, record.AppendLine(nil, b.fields[typ], record.Record{Key: rec.Key, Values: rec.Values})))
	}
	for rec, err := range from.Read(context.Background(), b.model, environment.Reading{Type: typ, Fields: b.fields[typ], Lines: true}) {
		require.NoError(b, err)
		line := rec.Line
		if rec.Load == nil {
			line = record.AppendLine(nil, b.fields[typ], record.Record{Key: rec.Key, Values: rec.Values})
		} else {
			loaded := rec
			require.NoError(b, rec.Load(&loaded))
			assert.Equal(b, rec.Key.Order(), loaded.Key.Order())
			assert.Len(b, loaded.Values, len(b.fields[typ]))
		}
		got = append(got, told(rec, line))
	}
	slices.Sort(want)
	slices.Sort(got)
	assert.Equal(b, want, got, "%s by lines", typ)
}

func (b *bench) key(typ, text string) record.Key {
	b.Helper()
	key, err := b.model.Shapes.ParseKey([]byte(text), typ)
	require.NoError(b, err)
	return key
}

const (
	lineA = `thing/A {"key":["A"],"values":{"active":true,"amount":"12.5","body":null,"day":"1898-03-01","extra":{"json":{"a":[true,null],"b":1}},"name":"Æther 'x'","node_id":[[null,"root"],"leaf"]},"changed_at":"2026-01-02T03:04:05","changed_by":"mara"}`
	lineB = `thing/B {"key":["B"],"values":{"active":false,"amount":"-0.001","body":null,"day":null,"extra":null,"name":"","node_id":[null,"leaf"]}}`
	lineC = `thing/C {"key":["C"],"values":{"active":null,"amount":null,"body":null,"day":null,"extra":null,"name":null,"node_id":null}}`
)

func readsEverything(b *bench) {
	env := b.open(true)
	assert.Equal(b, b.as(lineA, lineB, lineC), b.lines(env, "thing", nil))
	assert.Equal(b, []string{`node/leaf {"key":[null,"leaf"],"values":{}}`, `node/root {"key":[null,"root"],"values":{}}`,
		`node/root/leaf {"key":[[null,"root"],"leaf"],"values":{}}`}, b.lines(env, "node", nil))
	assert.Equal(b, []string{`part/A/1 {"key":[["A"],1],"values":{"note":"one"}}`,
		`part/A/2 {"key":[["A"],2],"values":{"note":"two"}}`, `part/B/~ {"key":[["B"],null],"values":{"note":"none"}}`},
		b.lines(env, "part", nil))
	assert.Equal(b, []string{`child/~/1 {"key":[null,1],"values":{"note":"of none"}}`,
		`child/Abc/1 {"key":[["Abc"],1],"values":{"note":"of Abc"}}`, `child/DEF/1 {"key":[["DEF"],1],"values":{"note":"of DEF"}}`},
		b.lines(env, "child", nil))
}

func readsByKey(b *bench) {
	env := b.open(true)
	assert.Equal(b, b.as(lineA, lineC), b.lines(env, "thing", []record.Key{b.key("thing", `["C"]`), b.key("thing", `["A"]`),
		b.key("thing", `["none"]`), b.key("thing", `["A"]`)}))
	assert.Len(b, b.lines(env, "part", []record.Key{b.key("part", `[["B"],null]`), b.key("part", `[["A"],2]`)}), 2)
	assert.Len(b, b.lines(env, "node", []record.Key{b.key("node", `[[null,"root"],"leaf"]`), b.key("node", `[[null,"none"],"leaf"]`)}), 1)
	assert.Len(b, b.lines(env, "child", []record.Key{b.key("child", `[["aBC"],1]`), b.key("child", `[null,1]`)}), 2)
	assert.Empty(b, b.lines(env, "thing", []record.Key{}))
}

func locates(b *bench) {
	env := b.open(true)
	counts := func(typ string, keys ...string) []int {
		var all []record.Key
		for _, key := range keys {
			all = append(all, b.key(typ, key))
		}
		out, err := env.Locate(context.Background(), b.model, typ, all)
		require.NoError(b, err)
		return out
	}
	assert.Equal(b, []int{1, 0, 1, 0}, counts("thing", `["A"]`, `["none"]`, `["B"]`, `["a"]`))
	assert.Equal(b, []int{1, 1, 1, 0}, counts("node", `[null,"leaf"]`, `[[null,"root"],"leaf"]`, `[null,"root"]`,
		`[[[null,"root"],"leaf"],"leaf"]`))
	assert.Equal(b, []int{1, 1}, counts("odd", `["Abc"]`, `["ABC"]`), "however it is spelt")
	assert.Equal(b, []int{1, 0}, counts("part", `[["B"],null]`, `[["A"],null]`))
}

func (b *bench) change(typ string, insert bool, key string, values string) environment.Change {
	b.Helper()
	rec, err := record.ParseLine([]byte(fmt.Sprintf(`{"key":%s,"values":%s}`, key, b.as(values)[0])), typ, b.fields[typ], b.model.Shapes)
	require.NoError(b, err)
	for i, v := range rec.Values {
		if v.Kind() == record.Bytes {
			rec.Values[i] = record.BytesValue([]byte("a\x00b"))
		}
	}
	return environment.Change{Type: typ, Key: rec.Key, Insert: insert, Fields: b.fields[typ], Values: rec.Values}
}

// write carries out changes of which none may be refused.
func (b *bench) write(work environment.Work, changes ...environment.Change) {
	b.Helper()
	refused, err := work.Write(context.Background(), b.model, changes)
	require.NoError(b, err)
	for _, err := range refused {
		require.NoError(b, err)
	}
}

func writes(b *bench) {
	ctx := context.Background()
	env := b.open(false)
	work, err := env.Begin(ctx, nil)
	require.NoError(b, err)
	sha := record.BytesValue([]byte("a\x00b")).Text()
	for _, c := range []environment.Change{
		b.change("node", true, `[[[null,"root"],"leaf"],"new"]`, `{}`),
		b.change("thing", true, `["Ñ"]`,
			`{"node_id":[[[null,"root"],"leaf"],"new"],"amount":"0.1","active":true,"day":"2026-02-28","extra":{"json":[1]},"body":{"file":"sha256:`+sha+`"}}`),
		b.change("thing", false, `["B"]`, `{"name":"bee","node_id":[null,"root"]}`),
		b.change("thing", false, `["A"]`, `{"extra":null}`),
		b.change("part", true, `[["Ñ"],7]`, `{"note":"new"}`),
		b.change("part", false, `[["B"],null]`, `{"note":"changed"}`),
		b.change("child", false, `[["ABC"],1]`, `{"note":"found"}`),
	} {
		b.write(work, c)
	}
	fresh := b.lines(work, "thing", []record.Key{b.key("thing", `["Ñ"]`)})
	require.NoError(b, work.Commit(ctx))
	require.NoError(b, work.Rollback(), "after a commit it does nothing")
	want := `thing/Ñ {"key":["Ñ"],"values":{"active":true,"amount":"0.1","body":{"file":"sha256:` + sha +
		`"},"day":"2026-02-28","extra":{"json":[1]},"name":null,"node_id":[[[null,"root"],"leaf"],"new"]}}`
	assert.Equal(b, b.as(want), fresh, "a unit of work sees its own writes")
	after := b.open(true)
	assert.Equal(b, b.as(
		strings.Replace(lineA, `{"json":{"a":[true,null],"b":1}}`, "null", 1),
		strings.Replace(strings.Replace(lineB, `"name":""`, `"name":"bee"`, 1), `[null,"leaf"]`, `[null,"root"]`, 1), lineC, want,
	), b.lines(after, "thing", nil))
	assert.Contains(b, b.lines(after, "part", nil), `part/Ñ/7 {"key":[["Ñ"],7],"values":{"note":"new"}}`)
	assert.Contains(b, b.lines(after, "part", nil), `part/B/~ {"key":[["B"],null],"values":{"note":"changed"}}`)
	assert.Contains(b, b.lines(after, "child", nil), `child/Abc/1 {"key":[["Abc"],1],"values":{"note":"found"}}`)
}

func rollsBack(b *bench) {
	ctx := context.Background()
	env := b.open(false)
	work, err := env.Begin(ctx, nil)
	require.NoError(b, err)
	b.write(work, b.change("thing", false, `["A"]`, `{"name":"gone"}`), b.change("thing", true, `["D"]`, `{"name":"gone"}`))
	require.NoError(b, work.Rollback())
	assert.Equal(b, b.as(lineA, lineB, lineC), b.lines(b.open(true), "thing", nil))
}

func refuses(b *bench) {
	ctx := context.Background()
	env := b.open(false)
	work, err := env.Begin(ctx, nil)
	require.NoError(b, err)
	for _, bad := range []environment.Change{
		b.change("thing", true, `["A"]`, `{}`),                            // the key is taken
		b.change("thing", false, `["none"]`, `{"name":"x"}`),              // there is no such record
		b.change("thing", false, `["B"]`, `{"node_id":[null,"nowhere"]}`), // refers to nothing
	} {
		said, err := work.Write(ctx, b.model, []environment.Change{bad})
		require.NoError(b, err)
		var refused *environment.RecordError
		require.ErrorAs(b, said[0], &refused, "%v", bad)
		assert.Equal(b, b.model.Catalog.Address("thing", bad.Key), refused.Address)
	}
	b.write(work, b.change("thing", false, `["B"]`, `{"name":"goes on"}`))
	require.NoError(b, work.Commit(ctx))
	assert.Contains(b, b.lines(b.open(true), "thing", nil)[1], "goes on")
}

// writesMany adds and changes more records than any engine takes at a time, some of which
// refer to others among them and some of which are refused.
// writesMany writes n records, of which three cannot be written, and more that belong to them.
func writesMany(n int) func(*bench) {
	return func(b *bench) { b.writesMany(n) }
}

func (b *bench) writesMany(n int) {
	third, parts := n/3, 0
	ctx := context.Background()
	env := b.open(false)
	work, err := env.Begin(ctx, nil)
	require.NoError(b, err)
	var changes []environment.Change
	bad := map[int]bool{}
	for i := range n {
		bad[len(changes)] = i%third == third*57/200
		key := fmt.Sprintf(`["N%d"]`, i)
		if bad[len(changes)] {
			key = `["A"]` // which is taken
		}
		changes = append(changes, b.change("thing", true, key,
			fmt.Sprintf(`{"name":"new\tline\\%d","active":true,"amount":"%d.5","body":{"file":"sha256:%s"}}`, i, i,
				strings.Repeat("0", 64))))
		if i%3 == 0 && !bad[len(changes)-1] {
			parts++
			changes = append(changes, b.change("part", true, fmt.Sprintf(`[["N%d"],1]`, i), `{"note":null}`))
		}
		if i%5 == 0 {
			changes = append(changes, b.change("thing", false, `["B"]`, fmt.Sprintf(`{"name":"%d"}`, i)))
		}
	}
	refused, err := work.Write(ctx, b.model, changes)
	require.NoError(b, err)
	require.Len(b, refused, len(changes))
	for i := range changes {
		assert.Equal(b, bad[i], refused[i] != nil, "change %d: %v", i, refused[i])
	}
	require.NoError(b, work.Commit(ctx))
	after := b.open(true)
	things := b.lines(after, "thing", nil)
	require.Len(b, things, 3+n-3)
	assert.Contains(b, things[1], fmt.Sprintf(`"name":"%d"`, n-5))
	last := strconv.Itoa(n - 1)
	assert.Equal(b, b.as(`thing/N` + last + ` {"key":["N` + last + `"],"values":{"active":true,"amount":"` + last +
		`.5","body":{"file":"sha256:` + record.BytesValue([]byte("a\x00b")).Text() +
		`"},"day":null,"extra":null,"name":"new\tline\\` + last + `","node_id":null}}`)[0],
		things[slices.IndexFunc(things, func(l string) bool { return strings.HasPrefix(l, "thing/N"+last) })])
	assert.Len(b, b.lines(after, "part", nil), 3+parts)
}

func locks(b *bench) {
	ctx := context.Background()
	first, err := b.open(false).Begin(ctx, nil)
	require.NoError(b, err)
	other := b.open(false)
	_, err = other.Begin(ctx, nil)
	var said *environment.Error
	require.ErrorAs(b, err, &said)
	assert.NotEmpty(b, said.Mend)
	require.NoError(b, first.Rollback())
	second, err := other.Begin(ctx, nil)
	require.NoError(b, err)
	require.NoError(b, second.Rollback())
}

func cancels(b *bench) {
	env := b.open(true)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for _, err := range env.Read(ctx, b.model, environment.Reading{Type: "thing", Fields: b.fields["thing"]}) {
		require.Error(b, err)
		assert.True(b, errors.Is(err, context.Canceled), "%v", err)
	}
}
