package build

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"os"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/graph"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/files/safe"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/form"
)

// Builder writes a new docket beside its place.
type Builder struct {
	temporary string
	db        *sql.DB
	tx        *sql.Tx
	stmts     map[string]*sql.Stmt
	next      int64
	ranks     int
	claims    int
	ties      bool
	renamed   [][2]int64
	grouped   bool
	kept      map[string]bool // attachments, by their SHA-256
}

// Create starts a docket in a scratch folder on the file system of its later place.
func Create(ctx context.Context, scratch string) (*Builder, error) {
	f, err := os.CreateTemp(scratch, "docket-")
	if err != nil {
		return nil, err
	}
	path := f.Name()
	_ = f.Close()
	// Until it is in its place the file is worth nothing, so it is written without
	// waiting for the disk; Finish does that once.
	db, err := sqlitefile.Open(path, sqlitefile.Options{Pragmas: []string{"journal_mode(OFF)", "synchronous(OFF)"}})
	b := &Builder{temporary: path, db: db, stmts: map[string]*sql.Stmt{}}
	if err == nil {
		db.SetMaxOpenConns(1)
		if err = form.Create(ctx, db); err == nil {
			b.tx, err = db.BeginTx(context.WithoutCancel(ctx), nil)
		}
	}
	if err != nil {
		b.Discard()
		return nil, err
	}
	return b, nil
}

// Discard removes an unfinished docket; after Finish it does nothing.
func (b *Builder) Discard() {
	if b.temporary == "" {
		return
	}
	if b.tx != nil {
		_ = b.tx.Rollback()
	}
	if b.db != nil {
		_ = b.db.Close()
	}
	_ = os.Remove(b.temporary)
	b.temporary = ""
}

func (b *Builder) exec(ctx context.Context, query string, args ...any) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	stmt, ok := b.stmts[query]
	if !ok {
		var err error
		if stmt, err = b.tx.Prepare(query); err != nil {
			return err
		}
		b.stmts[query] = stmt
	}
	_, err := stmt.Exec(args...)
	return err
}

// Type adds a record type, after its findings, in dependency order.
func (b *Builder) Type(ctx context.Context, t docket.Type) error {
	fields, err := json.Marshal(t.Fields)
	if err != nil {
		return err
	}
	required, err := json.Marshal(append([]string{}, t.Required...))
	if err != nil {
		return err
	}
	args := []any{b.ranks, t.Name, string(fields), string(required)}
	for _, status := range match.Statuses() {
		args = append(args, t.Counts[status])
	}
	b.ranks++
	return b.exec(ctx, "INSERT INTO types VALUES (?,?,?,?,?,?,?,?,?,?,?)", append(args, t.NotCompared)...)
}

// Finding adds a finding of the record type whose Type call comes next, in key order,
// and gives its id.
func (b *Builder) Finding(ctx context.Context, f docket.Finding) (int64, error) {
	fields, err := json.Marshal(f.Fields)
	if err != nil {
		return 0, err
	}
	reasons, err := json.Marshal(append([]match.Reason{}, f.Reasons...))
	if err != nil {
		return 0, err
	}
	b.next++
	return b.next, b.exec(ctx, "INSERT INTO findings VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,'{}')", b.next, b.ranks, f.Type,
		[]byte(f.Order), f.Key,
		f.Address, f.Was, f.Title, string(f.Status), string(reasons), orNull(f.Source), orNull(f.Target), orNull(f.Agreed), string(fields))
}

func orNull(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// Need adds a record that a finding's proposed values refer to.
func (b *Builder) Need(ctx context.Context, n docket.Need, key record.Key) error {
	return b.exec(ctx,
		"INSERT INTO needs (finding, field, owner, required, by_name, type, key_order, key, address) VALUES (?,?,?,?,?,?,?,?,?)",
		n.Holder, n.Field, n.Owner, n.Required, n.ByName, n.Type, []byte(key.Order()), n.Key, n.Address)
}

// Frees adds that a record which may be removed is referred to by a record of the target, by
// a field of it. Where that is a finding of this docket, which would give the reference up or
// be removed itself, its id is given.
func (b *Builder) Frees(ctx context.Context, n docket.Need, key record.Key) error {
	return b.exec(ctx,
		"INSERT INTO needs (finding, field, owner, required, by_name, type, key_order, key, address, in_target, needed, frees) VALUES (?,?,0,?,0,?,?,?,?,0,?,1)",
		n.Holder, n.Field, n.Required, n.Type, []byte(key.Order()), n.Key, n.Address, n.Finding)
}

// Check adds a check on a finding, or with 0 on the whole docket.
func (b *Builder) Check(ctx context.Context, finding int64, c check.On) error {
	var id any
	if finding != 0 {
		id = finding
	}
	fields, err := json.Marshal(append([]string{}, c.Fields...))
	if err != nil {
		return err
	}
	writes, err := json.Marshal(append([]string{}, c.Writes...))
	if err != nil {
		return err
	}
	return b.exec(ctx, "INSERT INTO checks VALUES (?,?,?,?,?,?,?,?)", id, string(c.Code), string(c.Level), c.Message, c.Mend,
		string(fields), string(writes), c.Partial)
}

// Content keeps the bytes of an attachment that an approved finding will need.
func (b *Builder) Content(ctx context.Context, v record.Value) error {
	if v.Content() == nil {
		return nil
	}
	if b.kept == nil {
		b.kept = map[string]bool{}
	}
	if b.kept[v.Text()] {
		return nil
	}
	b.kept[v.Text()] = true
	return form.Content(v, func(part int, data []byte) error {
		return b.exec(ctx, "INSERT INTO contents VALUES (?,?,?) ON CONFLICT DO NOTHING", v.Text(), part, data)
	})
}

// Wanted is a key that needs refer to.
type Wanted struct {
	Order string
	Key   string // as in a record line
}

// WantedKeys gives the distinct keys of a record type that needs refer to, in batches: those
// after one, in their order.
func (b *Builder) WantedKeys(ctx context.Context, typ string, after string, limit int) ([]Wanted, error) {
	return sqlitefile.List(ctx, b.tx, func(row sqlitefile.Row) (w Wanted, err error) {
		var order []byte
		err = row.Scan(&order, &w.Key)
		w.Order = string(order)
		return w, err
	}, `SELECT key_order, min(key) FROM needs WHERE NOT frees AND type = ? AND key_order > ? GROUP BY key_order ORDER BY key_order LIMIT ?`,
		typ, []byte(after), limit)
}

// WantedTypes lists the record types that needs refer to.
func (b *Builder) WantedTypes(ctx context.Context) ([]string, error) {
	return sqlitefile.List(ctx, b.tx, sqlitefile.One[string], "SELECT DISTINCT type FROM needs WHERE NOT frees ORDER BY type")
}

// Needing lists findings that refer to a record, at most limit.
func (b *Builder) Needing(ctx context.Context, typ, order string, limit int) ([]int64, error) {
	return sqlitefile.List(ctx, b.tx, sqlitefile.One[int64],
		"SELECT DISTINCT finding FROM needs WHERE NOT frees AND type = ? AND key_order = ? LIMIT ?",
		typ, []byte(order), limit)
}

// Located records how many records in the target have a key.
func (b *Builder) Located(ctx context.Context, typ, order string, count int) error {
	return b.exec(ctx, "UPDATE needs SET in_target = ? WHERE NOT frees AND type = ? AND key_order = ?", count, typ, []byte(order))
}

// adds is Finding.Adds as a condition.
const adds = `(f.status = 'new' OR f.status = 'conflict' AND f.target IS NULL
	AND f.reasons NOT LIKE '%ambiguous%' AND f.reasons NOT LIKE '%held-outside%')`

// LinkNeeds points needs that the target does not satisfy at the new findings that
// would, and gives each need that nothing satisfies, or that is ambiguous, to found.
func (b *Builder) LinkNeeds(ctx context.Context, found func(docket.Need) error) error {
	err := b.exec(ctx, `UPDATE needs SET needed = (SELECT f.id FROM findings f
		WHERE f.type = needs.type AND f.key_order = needs.key_order AND `+adds+`)
		WHERE NOT frees AND in_target = 0 AND EXISTS (SELECT 1 FROM findings f
		WHERE f.type = needs.type AND f.key_order = needs.key_order AND `+adds+`)`)
	if err == nil { // what stores the key itself waits for the record to get it
		err = b.exec(ctx,
			`UPDATE needs SET in_target = 0, needed = ifnull((SELECT f.id FROM findings f WHERE f.type = needs.type AND f.key_order = needs.key_order), 0) WHERE by_name`)
	}
	if err != nil {
		return err
	}
	all, err := sqlitefile.List(ctx, b.tx, func(row sqlitefile.Row) (n docket.Need, err error) {
		return n, row.Scan(&n.Holder, &n.Field, &n.Address, &n.InTarget, &n.Type)
	}, "SELECT finding, field, address, in_target, n.type FROM needs n WHERE NOT frees AND in_target <> 1 AND needed = 0 ORDER BY finding, n.rowid")
	if err != nil {
		return err
	}
	for _, n := range all {
		if err := found(n); err != nil {
			return err
		}
	}
	return nil
}

// Circles gives the sets of new findings that require each other, so that none of them can
// be written first. Late says of a field of a record type that it can be written later.
func (b *Builder) Circles(ctx context.Context, late func(typ, field string) bool) ([][]int64, error) {
	at := map[int64]int{}
	var ids []int64
	var edges [][]int
	node := func(id int64) int {
		n, ok := at[id]
		if !ok {
			n = len(ids)
			at[id], ids, edges = n, append(ids, id), append(edges, nil)
		}
		return n
	}
	type edge struct {
		from, to   int64
		typ, field string
	}
	for e, err := range sqlitefile.Rows(ctx, b.tx, func(row sqlitefile.Row) (e edge, err error) {
		return e, row.Scan(&e.from, &e.to, &e.typ, &e.field)
	}, `SELECT n.finding, n.needed, f.type, n.field FROM needs n JOIN findings f ON f.id = n.finding
		WHERE n.required AND NOT n.frees AND NOT n.by_name AND n.needed <> 0 AND `+adds+` ORDER BY n.finding, n.rowid`) {
		if err != nil {
			return nil, err
		}
		if late(e.typ, e.field) {
			continue
		}
		a, b := node(e.from), node(e.to)
		edges[a] = append(edges[a], b)
	}
	var out [][]int64
	for _, members := range graph.Components(edges) {
		if len(members) == 1 && !slices.Contains(edges[members[0]], members[0]) {
			continue
		}
		circle := make([]int64, len(members))
		for i, n := range members {
			circle[i] = ids[n]
		}
		slices.Sort(circle)
		out = append(out, circle)
	}
	slices.SortFunc(out, func(a, b []int64) int { return cmp.Compare(a[0], b[0]) })
	return out, nil
}

// AddressOf gives the address of a finding.
func (b *Builder) AddressOf(ctx context.Context, finding int64) (string, error) {
	var address string
	err := b.tx.QueryRowContext(ctx, "SELECT address FROM findings WHERE id = ?", finding).Scan(&address)
	return address, err
}

// Finish completes the docket and puts it in its place in one step; taken reports
// that another docket got the place first. Told, where it is given, hears the digest before
// the docket is in its place.
func (b *Builder) Finish(ctx context.Context, path string, header docket.Header, catalogSource []byte,
	told func(digest string) error) (taken bool, err error) {
	text, err := json.Marshal(header)
	if err != nil {
		return false, err
	}
	if err := b.exec(ctx, "INSERT OR REPLACE INTO header VALUES ('match', ?), ('catalog', ?)", string(text),
		string(catalogSource)); err != nil {
		return false, err
	}
	if !b.grouped {
		if err := b.Group(ctx, false); err != nil {
			return false, err
		}
	}
	sum, err := form.Digest(ctx, b.tx)
	if err != nil {
		return false, err
	}
	if err := b.tx.Commit(); err != nil {
		return false, err
	}
	b.tx = nil
	if err := b.db.Close(); err != nil {
		return false, err
	}
	b.db = nil
	f, err := os.OpenFile(b.temporary, os.O_RDWR, 0)
	if err != nil {
		return false, err
	}
	err = errors.Join(f.Sync(), f.Close(), os.Chmod(b.temporary, 0o600))
	if err != nil {
		return false, err
	}
	if _, there := os.Lstat(path); there == nil {
		return true, nil
	}
	if told != nil {
		if err := told(sum); err != nil {
			return false, err
		}
	}
	err = safe.Publish(b.temporary, path)
	b.Discard()
	if errors.Is(err, os.ErrExist) {
		return true, nil
	}
	return false, err
}
