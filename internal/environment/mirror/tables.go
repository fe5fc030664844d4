package mirror

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// The temporary database: a table for each set, with two columns more that no service can
// have, as their names hold a blank.
const (
	refColumn = "anagram ref"
	tagColumn = "anagram tag"
)

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (e *mirror) exec(ctx context.Context, query string, args ...any) error {
	_, err := e.q.ExecContext(ctx, query, args...)
	return err
}

// table makes the table of a set that is not there yet.
func (e *mirror) table(ctx context.Context, set string) (*held, error) {
	if h, ok := e.sets[set]; ok {
		return h, nil
	}
	p, ok := e.about.Places[set]
	if !ok {
		return nil, &environment.Error{Environment: e.name, Message: fmt.Sprintf("the service has no set %q.", set),
			Mend: "Correct at: of the record type in the catalog."}
	}
	for other := range e.sets {
		if strings.EqualFold(other, set) {
			return nil, &environment.Error{Environment: e.name,
				Message: fmt.Sprintf("the service has sets %s and %s, which differ in case alone.", other, set),
				Mend:    "Leave one of them out of the catalog."}
		}
	}
	if message := unfit(p); message != "" {
		return nil, &environment.Error{Environment: e.name, Message: message,
			Mend: "Leave the record type out of the catalog, or ask who runs the service."}
	}
	if len(e.sets) == 0 {
		for _, query := range []string{`CREATE TABLE "anagram edits" (n INTEGER PRIMARY KEY, place, row, kind, col)`,
			`CREATE TABLE "anagram loading" (n)`} {
			if err := e.exec(ctx, query); err != nil {
				return nil, err
			}
		}
	}
	var columns []string
	noted := func(kind, row, column string) string {
		return fmt.Sprintf(`BEGIN INSERT INTO "anagram edits" (place, row, kind, col) VALUES ('%s', %s, '%s', %s); END`,
			strings.ReplaceAll(set, "'", "''"), row, kind, column)
	}
	const ours = ` NOT EXISTS (SELECT 1 FROM "anagram loading")`
	triggers := []string{
		fmt.Sprintf(`CREATE TRIGGER %s AFTER INSERT ON %s WHEN%s %s`, quote("added "+set), quote(set), ours,
			noted("add", "new.rowid", "NULL")),
		fmt.Sprintf(`CREATE TRIGGER %s BEFORE DELETE ON %s WHEN%s %s`, quote("removed "+set), quote(set), ours,
			noted("remove", "old."+quote(refColumn), "old."+quote(tagColumn))),
	}
	for _, c := range p.Columns {
		affinity := ""
		switch c.Kind {
		case record.Integer, record.Boolean:
			affinity = " INTEGER"
		case record.Text:
			affinity = " TEXT"
		}
		columns = append(columns, quote(c.Name)+affinity)
		name := quote(c.Name)
		triggers = append(triggers, fmt.Sprintf(`CREATE TRIGGER %s AFTER UPDATE OF %s ON %s WHEN old.%s IS NOT new.%s AND%s %s`,
			quote("changed "+set+" "+c.Name), name, quote(set), name, name, ours,
			noted("change", "new.rowid", "'"+strings.ReplaceAll(c.Name, "'", "''")+"'")))
	}
	columns = append(columns, quote(refColumn)+" TEXT", quote(tagColumn)+" TEXT")
	for _, query := range append([]string{fmt.Sprintf("CREATE TABLE %s (%s)", quote(set), strings.Join(columns, ", ")),
		fmt.Sprintf("CREATE UNIQUE INDEX %s ON %s (%s)", quote("ref "+set), quote(set), quote(refColumn))}, triggers...) {
		if err := e.exec(ctx, query); err != nil {
			return nil, err
		}
	}
	h := &held{by: map[string]map[string]bool{}, indexed: map[string]bool{}}
	e.sets[set] = h
	return h, nil
}

// mostColumns is how many columns a table of the temporary database takes.
const mostColumns = 1900

// unfit says why a set cannot be held, "" where it can: names are told apart here by more than
// case, and hold nothing that no property is called.
func unfit(p catalog.Place) string {
	seen := map[string]string{}
	for _, c := range p.Columns {
		lower := strings.ToLower(c.Name)
		switch other, twice := seen[lower]; {
		case twice:
			return fmt.Sprintf("%s has properties %s and %s, which differ in case alone.", p.Name, show.Harmless(other),
				show.Harmless(c.Name))
		case c.Name == "" || len(c.Name) > 300 || strings.ContainsFunc(c.Name, func(r rune) bool { return r <= ' ' || r == 0x7f }):
			return fmt.Sprintf("%s has a property that is called %s, which is no name.", p.Name, show.Harmless(c.Name))
		}
		seen[lower] = c.Name
	}
	if len(p.Columns) > mostColumns {
		return fmt.Sprintf("%s has %d properties, and at most %d can be read.", p.Name, len(p.Columns), mostColumns)
	}
	return ""
}

// index makes rows be found by some columns together.
func (e *mirror) index(ctx context.Context, set string, columns []string) error {
	h := e.sets[set]
	name := strings.Join(columns, " ")
	if len(columns) == 0 || h.indexed[name] {
		return nil
	}
	h.indexed[name] = true
	quoted := make([]string, len(columns))
	for i, column := range columns {
		quoted[i] = quote(column)
	}
	return e.exec(ctx, fmt.Sprintf("CREATE INDEX %s ON %s (%s)", quote("index "+set+" "+name), quote(set), strings.Join(quoted, ", ")))
}

// prepare makes sure that a set has its table, and that these columns are fetched; those that
// were not before make all of it be fetched anew.
func (e *mirror) prepare(ctx context.Context, m *environment.Model, typ string) (string, *held, error) {
	t, ok := m.Catalog.Type(typ)
	if !ok {
		return "", nil, fmt.Errorf("the record type %q is not in the catalog", typ)
	}
	set := t.Place(m.Environment)
	h, err := e.table(ctx, set)
	if err != nil {
		return "", nil, err
	}
	if h.columns == nil {
		h.columns = wantedOf(e, m, set)
	}
	var key []string
	for _, field := range t.Key {
		for _, column := range t.Stored(field) {
			if !slices.Contains(key, column) {
				key = append(key, column)
			}
		}
	}
	if err := e.index(ctx, set, key); err != nil {
		return "", nil, err
	}
	if t.ID != "" {
		if err := e.index(ctx, set, []string{t.ID}); err != nil {
			return "", nil, err
		}
	}
	return set, h, nil
}

// wantedOf lists the columns of a set that some record type of the catalog uses: secret ones are
// never fetched, and what is ignored need not be.
func wantedOf(e *mirror, m *environment.Model, set string) []string {
	out := map[string]bool{}
	p := e.about.Places[set]
	for _, t := range m.Catalog.Types {
		if t.Place(m.Environment) != set {
			continue
		}
		for _, c := range p.Columns {
			if !slices.Contains(t.Secret, c.Name) && !t.Ignores(c.Name) || t.IsStamp(c.Name) || c.Name == t.ID || t.Serves(c.Name) ||
				slices.Contains(p.Primary, c.Name) {
				out[c.Name] = true
			}
		}
	}
	for _, t := range m.Catalog.Types {
		if t.Place(m.Environment) == set {
			for _, secret := range t.Secret {
				delete(out, secret)
			}
		}
	}
	return slices.Sorted(maps.Keys(out))
}

// loading runs something that is no change.
func (e *mirror) loading(ctx context.Context, do func() error) (err error) {
	if err := e.exec(ctx, `SAVEPOINT "anagram load"`); err != nil {
		return err
	}
	err = e.exec(ctx, `INSERT INTO "anagram loading" VALUES (1)`)
	if err == nil {
		err = do()
	}
	// The context may be cancelled; the flag must not stay.
	ctx = context.WithoutCancel(ctx)
	if err != nil {
		_ = e.exec(ctx, `ROLLBACK TO "anagram load"`)
	} else {
		err = e.exec(ctx, `DELETE FROM "anagram loading"`)
	}
	if released := e.exec(ctx, `RELEASE "anagram load"`); err == nil {
		err = released
	}
	return err
}

// keep puts a row that the service gave into its table, in place of what was there.
func (e *mirror) keep(ctx context.Context, set string, row Row) error {
	if row.Ref == "" {
		return &environment.Error{Environment: e.name, Message: fmt.Sprintf("the service gives a row of %s without a key.", set),
			Mend: "Ask who runs the service."}
	}
	if row.Tag != "" {
		e.sets[set].tagged = true
	}
	var columns []string
	var args []any
	for _, c := range e.about.Places[set].Columns {
		columns, args = append(columns, quote(c.Name)), append(args, row.Values[c.Name])
	}
	columns, args = append(columns, quote(refColumn), quote(tagColumn)), append(args, row.Ref, row.Tag)
	return e.exec(ctx, fmt.Sprintf("INSERT OR REPLACE INTO %s (%s) VALUES (%s)", quote(set), strings.Join(columns, ", "),
		strings.TrimSuffix(strings.Repeat("?, ", len(args)), ", ")), args...)
}

// each gives the rows of a query over the temporary database, which are read whole first.
func (e *mirror) each(ctx context.Context, width int, do func([]any) error, query string, args ...any) error {
	found, err := e.q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	var all [][]any
	for found.Next() {
		values, into := make([]any, width), make([]any, width)
		for i := range values {
			into[i] = &values[i]
		}
		if err = found.Scan(into...); err != nil {
			break
		}
		all = append(all, values)
	}
	if closed := found.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = found.Err()
	}
	for _, row := range all {
		if err != nil {
			return err
		}
		err = do(row)
	}
	return err
}

// valueText tells stored values apart.
func valueText(v any) string { return fmt.Sprintf("%T %s", v, engine.StoredText(v)) }

// forget drops everything that is held: from here on it may be otherwise.
func (e *mirror) forget(ctx context.Context) error {
	if len(e.sets) == 0 {
		return nil
	}
	return e.loading(ctx, func() error {
		for set, h := range e.sets {
			h.whole, h.by = false, map[string]map[string]bool{}
			if err := e.exec(ctx, "DELETE FROM "+quote(set)); err != nil {
				return err
			}
		}
		return nil
	})
}
