package main

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
)

// task is one thing to do, by Anagram and by hand. Both begin with the same preparation.
type task struct {
	id, name string
	prepare  func() error // before Anagram does it
	reset    func() error // before it is done by hand
	anagram  []string     // the arguments of the program; + is a name not used before
	wanted   []int        // its exit codes
	hand     string       // a shell command, "" where nobody would do it by hand
}

// joined are the queries by which an expert reads a type with the keys of what it refers to,
// in the order of its own key.
var joined = []struct{ table, key, columns, query string }{
	{"units", "code", "code, name", "SELECT code, name FROM units ORDER BY code"},
	{"assays", "code", "code, name, unit, price, active, sort_no, changed_at, changed_by",
		"SELECT a.code, a.name, u.code AS unit, a.price, a.active, a.sort_no, a.changed_at, a.changed_by FROM assays a LEFT JOIN units u ON u.id = a.unit_id%s ORDER BY a.code"},
	{"reagents", "code", "code, name, lot, size", "SELECT code, name, lot, size FROM reagents ORDER BY code"},
	{"panels", "code", "code, title, unit",
		"SELECT p.code, p.title, u.code AS unit FROM panels p LEFT JOIN units u ON u.id = p.unit_id ORDER BY p.code"},
	{"ranges", "assay, no", "assay, no, low, high, note",
		"SELECT a.code AS assay, r.no, r.low, r.high, r.note FROM ranges r JOIN assays a ON a.id = r.assay_id%s ORDER BY a.code, r.no"},
	{"panel_assays", "panel, assay", "panel, assay, rank",
		"SELECT p.code AS panel, a.code AS assay, l.rank FROM panel_assays l JOIN panels p ON p.id = l.panel_id JOIN assays a ON a.id = l.assay_id ORDER BY p.code, a.code"},
}

func (b *bench) queryOf(i int, where string) string {
	return strings.Replace(joined[i].query, "%s", where, 1)
}

func (b *bench) exportByHand(types []int, where string) string {
	var all []string
	for _, i := range types {
		all = append(all, b.e.query(b.source, b.queryOf(i, where))+" | gzip -1 > "+b.path("hand-"+joined[i].table+".gz"))
	}
	return strings.Join(all, " && ")
}

// matchByHand loads each type of the source beside the target's, and compares all fields.
func (b *bench) matchByHand() string {
	var all []string
	for i, j := range joined {
		file, staged := b.path("staged-"+j.table), "staged_"+j.table
		var on, differ []string
		for _, column := range strings.Split(j.key, ", ") {
			on = append(on, "s."+column+" = t."+column)
		}
		for _, column := range strings.Split(j.columns, ", ") {
			if !strings.Contains(", "+j.key+",", " "+column+",") {
				differ = append(differ, b.e.distinct("s."+column, "t."+column))
			}
		}
		first, _, _ := strings.Cut(j.key, ", ")
		query := strings.Split(b.queryOf(i, ""), " ORDER BY ")[0]
		compare := fmt.Sprintf("SELECT s.*, t.* FROM %s s FULL OUTER JOIN (%s) t ON %s WHERE s.%s IS NULL OR t.%s IS NULL OR %s",
			staged, query, strings.Join(on, " AND "), first, first, strings.Join(differ, " OR "))
		if !b.e.fullJoin {
			compare = fmt.Sprintf("SELECT s.*, t.* FROM %[1]s s LEFT JOIN (%[2]s) t ON %[3]s WHERE t.%[4]s IS NULL OR %[5]s UNION ALL SELECT s.*, t.* FROM (%[2]s) t LEFT JOIN %[1]s s ON %[3]s WHERE s.%[4]s IS NULL",
				staged, query, strings.Join(on, " AND "), first, strings.Join(differ, " OR "))
		}
		sql := b.e.client(b.target) + " <<'SQL'\nDROP TABLE IF EXISTS " + staged + ";\n" + b.e.staging + " " + staged + " AS " +
			query + " LIMIT 0" + ";\nSQL\n"
		sql += "gzip -dc " + b.path("hand-"+j.table+".gz") + " > " + file + " && " + b.e.load(b.target, staged, file)
		if !b.e.fullJoin {
			sql += " && " + b.e.client(b.target) + " <<'SQL'\nCREATE INDEX " + staged + "_key ON " + staged + " (" + j.key + ");\nSQL\n"
		} else {
			sql += " && "
		}
		sql += b.e.query(b.target, compare) + " > " + b.path("differs-"+j.table)
		all = append(all, sql)
	}
	return "set -eo pipefail\n" + strings.Join(all, "\n")
}

func (e engine) distinct(a, b string) string {
	switch e.name {
	case "MariaDB":
		return "NOT (" + a + " <=> " + b + ")"
	case "SQLite":
		return a + " IS NOT " + b
	}
	return a + " IS DISTINCT FROM " + b
}

// percent is how many records of each type are changed in the target of an import: a fifth, which is
// a tenth of all in the type that is imported, and in very large ones no more than in a million.
func (b *bench) percent() int { return max(1, min(20, 20_000_000/b.size)) }

// importByHand brings what differs into the target in one statement for each type.
func (b *bench) importByHand() string {
	file := b.path("changed-assays")
	return "set -eo pipefail\n" + b.e.query(b.source, "SELECT a.code, a.name, u.code AS unit, a.price, a.active, a.sort_no, a.changed_at, a.changed_by FROM assays a LEFT JOIN units u ON u.id = a.unit_id WHERE a.id % 100 < "+strconv.Itoa(b.percent())) + " > " + file + "\n" +
		b.e.client(b.many) + " <<'SQL'\nCREATE TABLE changes (code VARCHAR(20), name VARCHAR(60), unit VARCHAR(20), price DECIMAL(10,2), active BOOLEAN, sort_no INTEGER, changed_at TIMESTAMP, changed_by VARCHAR(20));\nSQL\n" +
		b.e.load(b.many, "changes", file) + "\n" +
		b.e.client(b.many) + " <<'SQL'\nINSERT INTO assays (code, name, unit_id, price, active, sort_no, changed_at, changed_by) SELECT c.code, c.name, u.id, c.price, c.active, c.sort_no, c.changed_at, c.changed_by FROM changes c LEFT JOIN units u ON u.code = c.unit WHERE true ON CONFLICT (code) DO UPDATE SET name = excluded.name, unit_id = excluded.unit_id, price = excluded.price, active = excluded.active, sort_no = excluded.sort_no, changed_at = excluded.changed_at, changed_by = excluded.changed_by;\nSQL\n"
}

func (b *bench) commByHand() string {
	var all []string
	for _, j := range joined {
		all = append(all, "LC_ALL=C comm -3 "+b.path("sorted-source-"+j.table)+" "+b.path("sorted-target-"+j.table)+" > "+b.path("comm-"+j.table))
	}
	return strings.Join(all, " && ")
}

// sortedFiles writes the rows of both sides, sorted, which is not measured.
func (b *bench) sortedFiles() error {
	for side, database := range map[string]string{"source": b.source, "target": b.target} {
		for i, j := range joined {
			if err := b.shell(b.e.query(database, b.queryOf(i, "")) + " | LC_ALL=C sort > " + b.path("sorted-"+side+"-"+j.table)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *bench) tasks() []task {
	all := []int{0, 1, 2, 3, 4, 5}
	chosen := []string{"export", "source", "--related", "none", "--name", "+"}
	for _, address := range b.addresses {
		chosen = append(chosen, "--record", address)
	}
	export := func(id, name string, args []string, types []int, where string) task {
		return task{id: id, name: name, anagram: append([]string{"export", "source", "--name", "+"}, args...),
			hand: "set -eo pipefail\n" + b.exportByHand(types, where)}
	}
	return []task{
		export("tenth", "export of a tenth", []string{"--where", "assay: sort_no == 3"}, []int{0, 1, 4}, " WHERE a.sort_no = 3"),
		export("type", "export of one type", []string{"--type", "assay"}, []int{0, 1, 4}, ""),
		export("export", "export of everything", nil, all, ""),
		{id: "chosen", name: "10 records by address", anagram: chosen},
		{id: "match", name: "match with the target", anagram: []string{"match", "whole", "--against", "target"}, wanted: []int{3},
			hand: b.matchByHand()},
		{id: "parcels", name: "match parcel with parcel", anagram: []string{"match", "whole", "--against", "other"}, wanted: []int{3},
			hand: b.commByHand()},
		{id: "import", name: fmt.Sprintf("import of %d changes", b.size/2*b.percent()/100), prepare: b.approved, reset: b.reset,
			anagram: []string{"import"}, hand: b.importByHand()},
	}
}

func (b *bench) path(name string) string { return filepath.Join(b.dir, name) }
