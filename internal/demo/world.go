package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	_ "modernc.org/sqlite" // the driver of the demo's databases
)

//go:embed scenario/schema.sql
var schema string

// to is a reference to a record of another table by its name there.
type to struct{ table, name string }

// row is one record: its name within its table, and its columns.
type row struct {
	name   string
	values map[string]any
}

// world is the content of one database, by table.
type world map[string][]*row

// tables in an order in which they can be filled, with their internal ids; "" for none.
var tables = []struct{ name, id string }{
	{"departments", "department_id"}, {"units", "unit_id"}, {"specimen_types", "specimen_type_id"}, {"containers", "container_id"},
	{"assays", "assay_id"}, {"assay_ranges", "range_id"}, {"panels", "panel_id"}, {"panel_items", ""}, {"instruments", "instrument_id"},
	{"instrument_links", ""}, {"price_lists", "price_list_id"}, {"price_lines", "price_line_id"}, {"comment_codes", "comment_id"},
	{"reflex_rules", "rule_id"}, {"report_templates", "template_id"}, {"roles", "role_id"}, {"role_rights", ""}, {"holidays", ""}, {"settings", ""},
}

type values = map[string]any

func (w world) add(table, name string, v values) {
	w[table] = append(w[table], &row{name: name, values: v})
}

// set changes columns of a record that is there.
func (w world) set(table, name string, v values) {
	for _, r := range w[table] {
		if r.name == name {
			for column, value := range v {
				r.values[column] = value
			}
			return
		}
	}
	panic("the scenario has no " + table + " " + name)
}

// remove takes a record and everything that refers to it away.
func (w world) remove(table, name string) {
	w[table] = slices.DeleteFunc(w[table], func(r *row) bool { return r.name == name })
	for other := range w {
		w[other] = slices.DeleteFunc(w[other], func(r *row) bool {
			for _, v := range r.values {
				if v == (to{table, name}) {
					return true
				}
			}
			return false
		})
	}
}

// write fills a new database. Internal ids begin at first; any but 1 also shuffles
// the records, so that hardly a number is the same in two databases.
func (w world) write(ctx context.Context, path string, first int64) error {
	db, err := sql.Open("sqlite", "file:"+strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23").Replace(path)+"?_pragma=synchronous(OFF)")
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, schema); err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(7, uint64(first)))
	ids := map[to]int64{}
	next := first
	for _, t := range tables {
		rows := slices.Clone(w[t.name])
		if first != 1 {
			random.Shuffle(len(rows), func(a, b int) { rows[a], rows[b] = rows[b], rows[a] })
		}
		for _, r := range rows {
			ids[to{t.name, r.name}] = next
			next++
		}
		if first == 1 { // every table of the sandbox counts from 1
			next = 1
		}
		var later []func() error
		for _, r := range rows {
			finish, err := insert(ctx, tx, t.name, t.id, r, ids)
			if err != nil {
				return fmt.Errorf("%s %s: %w", t.name, r.name, err)
			}
			later = append(later, finish...)
		}
		for _, finish := range later {
			if err := finish(); err != nil {
				return err
			}
		}
	}
	if _, err := tx.ExecContext(ctx, stampTriggers()); err != nil {
		return err
	}
	return tx.Commit()
}

// insert writes a row; references to its own table are set when all rows are there.
func insert(ctx context.Context, tx *sql.Tx, table, id string, r *row, ids map[to]int64) (later []func() error, err error) {
	var columns []string
	var args []any
	if id != "" {
		columns, args = append(columns, id), append(args, ids[to{table, r.name}])
	}
	names := make([]string, 0, len(r.values))
	for column := range r.values {
		names = append(names, column)
	}
	slices.Sort(names)
	for _, column := range names {
		value := r.values[column]
		if reference, ok := value.(to); ok {
			number, ok := ids[reference]
			if !ok {
				return nil, fmt.Errorf("the scenario has no %v", reference)
			}
			if reference.table == table {
				own := ids[to{table, r.name}]
				later = append(later, func() error {
					_, err := tx.ExecContext(ctx, fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", table, column, id), number, own)
					return err
				})
				continue
			}
			value = number
		}
		columns, args = append(columns, column), append(args, value)
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",")
	_, err = tx.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(columns, ","), marks), args...)
	return later, err
}

// stampTriggers keep the audit columns, as the application's own do.
func stampTriggers() string {
	var out strings.Builder
	for _, t := range tables {
		if t.id == "" && t.name != "settings" { // links and holidays have no audit columns
			continue
		}
		key := t.id
		if key == "" {
			key = "code"
		}
		fmt.Fprintf(&out, `CREATE TRIGGER %[1]s_stamp AFTER UPDATE ON %[1]s WHEN new.updated_at IS old.updated_at
			BEGIN UPDATE %[1]s SET updated_at = CURRENT_TIMESTAMP WHERE %[2]s = new.%[2]s; END;`, t.name, key)
	}
	return out.String()
}
