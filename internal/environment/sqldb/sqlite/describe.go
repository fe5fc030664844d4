package sqlite

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/files/sqlitefile"
)

func (d dialect) Describe(ctx context.Context, q engine.Queryer) (map[string]catalog.Place, error) {
	places := map[string]catalog.Place{}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var name, kind string
		err := rows.Scan(&name, &kind)
		places[name] = catalog.Place{Name: name, ReadOnly: kind == "view"}
		return err
	}, `SELECT name, type FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\_%' ESCAPE '\'`)
	if err != nil {
		return nil, err
	}
	// Rights to an SQLite database are those to its file. It is asked for them, not opened:
	// a second descriptor that is closed would let go of the locks of the first.
	writable := sqlitefile.MayWrite(d.path)
	for name, place := range places {
		if err := d.describeColumns(ctx, q, &place); err != nil {
			return nil, err
		}
		if err := d.describeKeys(ctx, q, &place); err != nil {
			return nil, err
		}
		place.CannotInsert, place.CannotUpdate, place.CannotDelete = !writable, !writable, !writable
		places[name] = place
		err := engine.AddForeign(ctx, q, places,
			`SELECT ?1, id, "table", "from", "to" FROM pragma_foreign_key_list(?1) WHERE "to" IS NOT NULL ORDER BY id, seq`, name)
		if err != nil {
			return nil, err
		}
	}
	err = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, statement string
		err := rows.Scan(&place, &statement)
		for _, rule := range engine.ChecksIn(statement) {
			engine.AddRule(places, place, rule)
		}
		return err
	}, "SELECT name, sql FROM sqlite_schema WHERE type = 'table' AND sql LIKE '%CHECK%' ORDER BY 1")
	if err != nil {
		return nil, err
	}
	err = engine.AddPartly(ctx, q, places, `SELECT t.name, l.name, substr(s.sql, instr(upper(s.sql), ' WHERE ') + 7), x.name
		FROM sqlite_schema t JOIN pragma_index_list(t.name) l JOIN sqlite_schema s ON s.type = 'index' AND s.name = l.name JOIN pragma_index_xinfo(l.name) x
		WHERE t.type = 'table' AND l."unique" AND l.partial AND x.key ORDER BY t.name, l.seq, x.seqno`)
	if err != nil {
		return nil, err
	}
	if err := engine.MarkPlaces(ctx, q, places, engine.HasAnyTrigger,
		"SELECT tbl_name FROM sqlite_schema WHERE type = 'trigger'"); err != nil {
		return nil, err
	}
	if err := engine.MarkPlaces(ctx, q, places, func(p *catalog.Place) { p.Quiet = true },
		"SELECT name FROM sqlite_schema WHERE type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%' AND lower(name) NOT IN (SELECT lower(tbl_name) FROM sqlite_schema WHERE type = 'trigger')"); err != nil {
		return nil, err
	}
	return places, engine.AddTriggers(ctx, q, places,
		`SELECT tbl_name, sql FROM sqlite_schema WHERE type = 'trigger' AND sql LIKE '%UPDATE%' || tbl_name || '%SET%' ORDER BY 1, name`, engine.SetColumn)
}

// Referring lists the foreign keys that point at a table, however the statement wrote its name.
func (d dialect) Referring(ctx context.Context, q engine.Queryer, place string) ([]engine.Referring, error) {
	return engine.ReferringBy(ctx, q, d.Quote, `SELECT f.id, t.name, t.name = ?1 COLLATE NOCASE, f."from", ifnull(f."to", '')
		FROM sqlite_schema t JOIN pragma_foreign_key_list(t.name) f WHERE t.type = 'table' AND f."table" = ?1 COLLATE NOCASE ORDER BY t.name, f.id, f.seq`, place)
}

func (d dialect) describeColumns(ctx context.Context, q engine.Queryer, place *catalog.Place) error {
	foreign := map[string]engine.ForeignColumn{}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var from string
		var to engine.ForeignColumn
		var columns int
		err := rows.Scan(&from, &to.Place, &to.Column, &to.Follows, &columns)
		if columns == 1 {
			foreign[from] = to
		}
		return err
	}, `SELECT "from", "table", ifnull("to", ''), on_update = 'CASCADE', count(*) OVER (PARTITION BY id) FROM pragma_foreign_key_list(?)`, place.Name)
	if err != nil {
		return err
	}
	rowid := true
	err = engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&rowid) }, "SELECT NOT wr FROM pragma_table_list(?)",
		place.Name)
	if err != nil {
		return err
	}
	return engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var c catalog.Column
		var hidden, pk, keys int
		err := rows.Scan(&c.Name, &c.Declared, &c.Required, &c.Default, &hidden, &pk, &keys)
		c.Kind = kindOf(c.Declared)
		c.Derived = hidden >= 2
		c.RefersTo, c.RefersColumn, c.Follows = foreign[c.Name].Place, foreign[c.Name].Column, foreign[c.Name].Follows
		c.Waits = c.RefersTo != "" // by the connection's own setting, see Defer
		c.InnerID = pk == 1 && keys == 1
		// An INTEGER PRIMARY KEY is the row's own number, which SQLite gives.
		c.Default = c.Default || c.InnerID && rowid && strings.EqualFold(c.Declared, "INTEGER")
		if hidden != 1 {
			place.Columns = append(place.Columns, c)
		}
		return err
	}, `SELECT name, type, "notnull", dflt_value IS NOT NULL, hidden, pk, max(pk) OVER () FROM pragma_table_xinfo(?) ORDER BY cid`, place.Name)
}

// describeKeys lists the primary key and the unique indexes; those on expressions or on
// part of the rows say nothing about columns.
func (d dialect) describeKeys(ctx context.Context, q engine.Queryer, place *catalog.Place) error {
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var name string
		err := rows.Scan(&name)
		place.Primary = append(place.Primary, name)
		return err
	}, "SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", place.Name)
	if err != nil {
		return err
	}
	u := engine.Uniques{}
	err = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var index, collation string
		var column sql.NullString
		var primary bool
		err := rows.Scan(&index, &column, &collation, &primary)
		if !primary {
			u.Add(index, column)
		}
		at := slices.IndexFunc(place.Columns, func(c catalog.Column) bool { return c.Name == column.String })
		if at >= 0 && column.Valid && !strings.EqualFold(collation, "BINARY") {
			place.Columns[at].Loose = true
		}
		return err
	}, `SELECT l.name, i.name, ifnull(i.coll, ''), l.origin = 'pk' FROM pragma_index_list(?) l JOIN pragma_index_xinfo(l.name) i WHERE l."unique" AND NOT l.partial AND i.key ORDER BY l.seq, i.seqno`, place.Name)
	place.Unique = u.Lists()
	return err
}

// sqliteKind guesses what a declared type is meant to hold; SQLite itself only knows
// affinities (https://sqlite.org/datatype3.html), so the word counts.
func kindOf(declared string) record.Kind {
	word := strings.ToUpper(declared)
	if i := strings.IndexByte(word, '('); i >= 0 {
		word = word[:i] + word[strings.IndexByte(word+")", ')'):]
	}
	has := func(parts ...string) bool {
		for _, part := range parts {
			if strings.Contains(word, part) {
				return true
			}
		}
		return false
	}
	switch {
	case has("BOOL"):
		return record.Boolean
	case has("TIMESTAMPTZ", "WITH TIME ZONE"):
		return record.Timestamp
	case has("DATETIME", "TIMESTAMP"):
		return record.LocalTimestamp
	case has("DATE"):
		return record.Date
	case has("TIME"):
		return record.Time
	case has("JSON"):
		return record.JSON
	case has("INT"):
		return record.Integer
	case has("CHAR", "TEXT", "CLOB"):
		return record.Text
	case has("BLOB", "BINARY"):
		return record.Bytes
	case has("REAL", "FLOA", "DOUB", "DEC", "NUM", "MONEY"):
		return record.Decimal
	default:
		return record.Null
	}
}
