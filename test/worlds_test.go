package test

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Worlds made at random, with parts of parts, trees, references in a circle, keys that
// changed, references whose type another field chooses, and targets that do things by
// themselves. Some records and fields are approved. After the import each field of each
// record is what was approved, and else what it was; or the import is refused, and then
// nothing changed at all.

const worldCatalog = `types:
  g: {at: g, key: [code], id: {field: id, made_by: largest}, refers: {up: g}}
  a: {at: a, key: [code], id: {field: id, made_by: largest}, refers: {g_id: g, b_id: b}}
  b: {at: b, key: [code], id: {field: id, made_by: largest}, refers: {a_id: a}}
  p: {at: p, key: [a_id, no], id: {field: id, made_by: largest}, refers: {a_id: a}, part_of: a}
  q: {at: q, key: [p_id, no], id: {field: id, made_by: largest}, refers: {p_id: p}, part_of: p}
  u: {at: u, key: [code], id: {field: id, made_by: largest}, refers: {obj: {by: kind, to: {A: a, G: g}}}}
`

// worldTables are the columns of each type beside id; those of the key come first.
var worldTables = []struct {
	name    string
	key     int
	columns []string
	refers  map[string]string
}{
	{"g", 1, []string{"code", "f1", "f2", "up"}, map[string]string{"up": "g"}},
	{"a", 1, []string{"code", "f1", "f2", "g_id", "b_id"}, map[string]string{"g_id": "g", "b_id": "b"}},
	{"b", 1, []string{"code", "f1", "a_id"}, map[string]string{"a_id": "a"}},
	{"p", 2, []string{"a_id", "no", "f1", "f2"}, map[string]string{"a_id": "a"}},
	{"q", 2, []string{"p_id", "no", "f1"}, map[string]string{"p_id": "p"}},
	{"u", 1, []string{"code", "f1", "kind", "obj"}, nil},
}

// worldRow is one record: by column a text, or the address of what it refers to; "" is null.
type worldRow map[string]string

// side is all records of a side by type and address.
type worldSide map[string]map[string]worldRow

func columnsOf(typ string) []string {
	for _, t := range worldTables {
		if t.name == typ {
			return t.columns
		}
	}
	return nil
}

func refersTo(typ, column string, row worldRow) string {
	if typ == "u" && column == "obj" {
		return map[string]string{"A": "a", "G": "g"}[row["kind"]]
	}
	for _, t := range worldTables {
		if t.name == typ {
			return t.refers[column]
		}
	}
	return ""
}

// makeWorld makes a side. Most of it depends on the seed that both sides share.
func makeWorld(shared, own *rand.Rand) worldSide {
	w := worldSide{}
	for _, t := range worldTables {
		w[t.name] = map[string]worldRow{}
	}
	value := func() string {
		same := fmt.Sprint("v", shared.IntN(3))
		if other := fmt.Sprint("w", own.IntN(3)); own.IntN(3) == 0 {
			return other
		}
		return same
	}
	add := func(typ, address string, row worldRow) {
		if keep := shared.IntN(9) != 0; keep && own.IntN(7) != 0 {
			for _, column := range []string{"f1", "f2"} {
				if slices.Contains(columnsOf(typ), column) {
					row[column] = value()
				}
			}
			w[typ][address] = row
		}
	}
	pick := func(typ string, r *rand.Rand) string {
		all := slices.Sorted(maps.Keys(w[typ]))
		if len(all) == 0 || r.IntN(3) == 0 {
			return ""
		}
		return all[r.IntN(len(all))]
	}
	for _, code := range []string{"G1", "G2", "G3"} {
		add("g", "g/"+code, worldRow{"code": code, "up": pick("g", shared)})
	}
	for _, code := range []string{"A1", "A2", "A3", "A4"} {
		add("a", "a/"+code, worldRow{"code": code, "g_id": pick("g", own)})
	}
	for _, code := range []string{"B1", "B2"} {
		add("b", "b/"+code, worldRow{"code": code, "a_id": pick("a", own)})
	}
	for _, address := range slices.Sorted(maps.Keys(w["a"])) {
		w["a"][address]["b_id"] = pick("b", own)
		for no := range 2 {
			add("p", fmt.Sprintf("p/%s/%d", address[2:], no), worldRow{"a_id": address, "no": fmt.Sprint(no)})
		}
	}
	for _, address := range slices.Sorted(maps.Keys(w["p"])) {
		add("q", "q/"+address[2:]+"/1", worldRow{"p_id": address, "no": "1"})
	}
	for _, code := range []string{"U1", "U2"} {
		row := worldRow{"code": code, "kind": []string{"A", "G"}[own.IntN(2)]}
		row["obj"] = pick(strings.ToLower(row["kind"]), own)
		add("u", "u/"+code, row)
	}
	return w
}

// put writes a side into a database with ids of its own, and gives them by address.
func (w worldSide) put(t *testing.T, db *sql.DB, first int) map[string]int {
	t.Helper()
	ids := map[string]int{}
	for _, table := range worldTables {
		for _, address := range slices.Sorted(maps.Keys(w[table.name])) {
			ids[address] = first + len(ids)*3
		}
	}
	for _, table := range worldTables {
		for _, address := range slices.Sorted(maps.Keys(w[table.name])) {
			row := w[table.name][address]
			columns, values := []string{"id"}, []string{strconv.Itoa(ids[address])}
			for _, column := range table.columns {
				value := "NULL"
				if row[column] != "" {
					value = "'" + row[column] + "'"
					if refersTo(table.name, column, row) != "" {
						value = strconv.Itoa(ids[row[column]])
					}
				}
				columns, values = append(columns, column), append(values, value)
			}
			run(t, db, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table.name, strings.Join(columns, ", "), strings.Join(values, ", ")))
		}
	}
	return ids
}

// get reads all rows of a database: by type and id, the columns as they are stored.
func get(t *testing.T, db *sql.DB) map[string]map[int]worldRow {
	t.Helper()
	out := map[string]map[int]worldRow{}
	for _, table := range worldTables {
		out[table.name] = map[int]worldRow{}
		for _, line := range lines(t, db, "SELECT id, "+strings.Join(table.columns, ", ")+" FROM "+table.name) {
			cells := strings.Split(line, "|")
			id, err := strconv.Atoi(cells[0])
			require.NoError(t, err)
			row := worldRow{}
			for i, column := range table.columns {
				row[column] = cells[i+1]
			}
			out[table.name][id] = row
		}
	}
	return out
}

// wanted is what was said of a record.
type wanted struct {
	record string          // approve or nothing
	fields map[string]bool // approved, or declined
}

func (d wanted) writes(field string) bool {
	if on, said := d.fields[field]; said {
		return on
	}
	return d.record == "approve"
}

func world(t *testing.T, seed uint64, engine string) (outcome string) {
	r := rand.New(rand.NewPCG(seed, 11))
	column := " VARCHAR(30)"
	var tables []string
	for _, table := range worldTables {
		var columns []string
		for _, name := range table.columns {
			if strings.HasSuffix(name, "_id") || name == "up" || name == "obj" || name == "no" {
				columns = append(columns, name+" INTEGER")
			} else {
				columns = append(columns, name+column)
			}
		}
		tables = append(tables, fmt.Sprintf("CREATE TABLE %s (id INTEGER PRIMARY KEY, %s)", table.name, strings.Join(columns, ", ")))
	}
	p, source, target := pair(t, engine, worldCatalog, tables...)
	there := makeWorld(rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 2)))
	from := makeWorld(rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 3)))
	renamed := map[string]string{} // by the source's address, the target's
	from.put(t, source, 1)
	ids := there.put(t, target, 1000)
	if r.IntN(3) == 0 && there["a"]["a/A1"] != nil && from["a"]["a/A1"] != nil { // it has another key in the target
		run(t, target, "UPDATE a SET code = 'AX' WHERE code = 'A1'")
		p.must(0, "pair", "a/AX", "a/A1")
		renamed["a/A1"] = "a/AX"
	}
	switch r.IntN(6) {
	case 0:
		run(t, target, strings.Split(strings.ReplaceAll(strings.Join(trigger(engine, "BEFORE", "UPDATE", "SET NEW.f2 = 'x'"), "\x00"), "items", "a"), "\x00")...)
	case 1:
		if engine != "mysql" {
			run(t, target, strings.Split(strings.ReplaceAll(strings.Join(trigger(engine, "AFTER", "UPDATE", "UPDATE b SET f1 = 'x' WHERE code = 'B1' AND f1 <> 'x'"), "\x00"), "items", "a"), "\x00")...)
		}
	}
	before := get(t, target)
	if r := p.run("match", "source", "--against", "target", "--name", "p"); r.code != 0 && r.code != 3 {
		require.Failf(t, "match", "seed %d: %s", seed, r.err)
	}
	found := p.review()
	said := map[string]wanted{}
	for _, address := range slices.Sorted(maps.Keys(found)) {
		f := found[address]
		if f.Status == "target-only" || f.Status == "conflict" || f.Status == "target-edit" {
			continue
		}
		d := wanted{fields: map[string]bool{}}
		if len(f.Fields) > 0 && r.IntN(3) == 0 {
			field := f.Fields[r.IntN(len(f.Fields))].Field
			if r.IntN(2) == 0 && f.Status != "new" {
				p.must(0, "approve", address, "--field", field)
				d.fields[field] = true
			} else {
				p.must(0, "decline", address, "--field", field)
				d.fields[field] = false
			}
		}
		if r.IntN(5) < 4 {
			d.record = "approve"
		}
		said[address] = d
	}
	var approved []string
	for address, d := range said {
		if d.record == "approve" {
			approved = append(approved, address)
		}
	}
	slices.Sort(approved)
	if len(approved) > 0 {
		p.must(0, append([]string{"approve"}, approved...)...)
	}
	result := p.run("import", "--json")
	after := get(t, target)
	if result.code != 0 && result.code != 5 && result.code != 3 {
		assert.Equal(t, before, after, "seed %d on %s: a refused import changes nothing: %s", seed, engine, result.err+result.out)
		return "refused"
	}

	// Where each record of the source is in the target afterwards.
	at := map[string]int{}
	for address, id := range ids {
		at[address] = id
	}
	var named func(typ string, id int) string
	named = func(typ string, id int) string {
		row := after[typ][id]
		switch typ {
		case "p":
			owner, _ := strconv.Atoi(row["a_id"])
			return "p/" + strings.TrimPrefix(named("a", owner), "a/") + "/" + row["no"]
		case "q":
			owner, _ := strconv.Atoi(row["p_id"])
			return "q/" + strings.TrimPrefix(named("p", owner), "p/") + "/" + row["no"]
		default:
			if typ == "a" && row["code"] == "AX" {
				return "a/A1"
			}
			return typ + "/" + row["code"]
		}
	}
	for _, table := range worldTables {
		for id := range after[table.name] {
			if _, old := before[table.name][id]; !old {
				at[named(table.name, id)] = id
			}
		}
	}
	for _, table := range worldTables {
		for id := range before[table.name] {
			assert.Contains(t, after[table.name], id, "seed %d on %s: nothing is removed", seed, engine)
		}
		for id, row := range after[table.name] {
			address := named(table.name, id)
			d := said[address]
			was, old := before[table.name][id]
			src := from[table.name][address]
			written, kept := 0, 0
			for _, name := range table.columns {
				want := src[name]
				if to := refersTo(table.name, name, src); to != "" && want != "" {
					want = strconv.Itoa(at[want])
				}
				is := row[name]
				differs := slices.ContainsFunc(found[address].Fields, func(f shownField) bool { return f.Field == name })
				switch inKey := slices.Contains(table.columns[:table.key], name); {
				case !old && (inKey || d.writes(name)):
					assert.Equal(t, want, is, "seed %d on %s: new %s, %s", seed, engine, address, name)
					assert.Equal(t, "approve", d.record, "seed %d on %s: %s was approved", seed, engine, address)
				case !old:
					assert.Empty(t, is, "seed %d on %s: %s, %s was declined", seed, engine, address, name)
				case differs && d.writes(name) && is == want && is != was[name]:
					written++
				case differs && d.writes(name) && is == was[name] && is != want:
					kept++
				default:
					assert.Equal(t, was[name], is, "seed %d on %s: %s, %s was not approved (%v)", seed, engine, address, name, d)
				}
			}
			assert.False(t, written > 0 && kept > 0, "seed %d on %s: %s is written as a whole or not at all", seed, engine, address)
			if result.code == 0 {
				assert.Zero(t, kept, "seed %d on %s: %s was approved and not written", seed, engine, address)
			}
		}
	}
	takenBack(t, p, target, seed, engine, before, after)
	return "imported"
}

// takenBack restores the import of a world, and then the restore: afterwards all is as it was
// before, and then as it was imported, but for the numbers of records that came anew.
func takenBack(t *testing.T, p *place, target *sql.DB, seed uint64, engine string, before, after map[string]map[int]worldRow) {
	if r := p.run("restore", "1"); r.code == 2 && strings.Contains(words(r.err), "nothing to take back") {
		assert.Equal(t, before, after, "seed %d on %s", seed, engine)
		return
	}
	p.must(0, "approve", "2", "*", "--take", "source")
	if r := p.run("import", "2"); r.code != 0 {
		assert.Equal(t, after, get(t, target), "seed %d on %s: %s", seed, engine, r.out+r.err)
		assert.Fail(t, "restore", "seed %d on %s was not imported: %s", seed, engine, r.out+r.err)
		return
	}
	assert.Equal(t, before, get(t, target), "seed %d on %s: all is as it was", seed, engine)
	p.must(3, "restore", "2")
	p.must(0, "approve", "3", "*", "--take", "source")
	p.must(0, "import", "3")
	again := get(t, target)
	for _, table := range worldTables {
		assert.Len(t, again[table.name], len(after[table.name]), "seed %d on %s: %s", seed, engine, table.name)
		for id, row := range after[table.name] {
			if _, stayed := before[table.name][id]; stayed && !pointsAtNew(table.name, row, before) {
				assert.Equal(t, row, again[table.name][id], "seed %d on %s: %s %d is as imported", seed, engine, table.name, id)
			}
		}
	}
}

// pointsAtNew reports whether a row refers to a record that the import made, whose number is
// another one when it comes anew.
func pointsAtNew(typ string, row worldRow, before map[string]map[int]worldRow) bool {
	for _, column := range columnsOf(typ) {
		to := refersTo(typ, column, row)
		if column == "obj" {
			to = "?"
		} else if strings.HasSuffix(column, "_id") {
			to = strings.TrimSuffix(column, "_id")
		} else if column == "up" {
			to = "g"
		}
		if to == "" || row[column] == "" {
			continue
		}
		id, _ := strconv.Atoi(row[column])
		if _, old := before[to][id]; !old {
			return true
		}
	}
	return false
}

func TestWorlds(t *testing.T) {
	t.Parallel()
	count, first := full(map[bool]int{true: 10, false: 2}[thorough], 60), 0
	if given, err := strconv.Atoi(os.Getenv("ANAGRAM_TEST_WORLDS")); err == nil {
		count = given
	}
	if given, err := strconv.Atoi(os.Getenv("ANAGRAM_TEST_FIRST_WORLD")); err == nil {
		first = given
	}
	outcomes := make([]string, count)
	t.Run("all", func(t *testing.T) {
		for i := range count {
			seed := uint64(first + i)
			engine := []string{"sqlite", "sqlite", "postgres", "sqlite", "mysql"}[seed%5]
			t.Run(fmt.Sprintf("%d on %s", seed, engine), func(t *testing.T) {
				t.Parallel()
				outcomes[i] = world(t, seed, engine)
			})
		}
	})
	seen := map[string]int{}
	for _, o := range outcomes {
		seen[o]++
	}
	t.Logf("%d worlds: %v", count, seen)
	if count >= 20 {
		assert.Greater(t, seen["imported"], count/3)
		assert.Positive(t, seen["refused"])
	}
}
