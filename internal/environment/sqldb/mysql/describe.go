package mysql

import (
	"context"
	"database/sql"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

// granted is what the account may do with one table.
type granted struct{ read, insert, update, remove bool }

// rights reads what the account was granted on the whole server, the database, its tables
// and their columns.
func (d dialect) rights(ctx context.Context, q engine.Queryer) (map[string]granted, error) {
	// An account that may read the server's own tables sees what others were granted, too.
	const mine = `grantee = concat("'", replace(current_user(), '@', "'@'"), "'")`
	out := map[string]granted{}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var table string
		var g granted
		err := rows.Scan(&table, &g.read, &g.insert, &g.update, &g.remove)
		out[table] = g
		return err
	}, strings.ReplaceAll(`
		SELECT t.table_name, coalesce(max(p.privilege_type = 'SELECT'), 0), coalesce(max(p.privilege_type = 'INSERT'), 0),
			coalesce(max(p.privilege_type = 'UPDATE'), 0), coalesce(max(p.privilege_type = 'DELETE'), 0)
		FROM information_schema.tables t LEFT JOIN (
			SELECT privilege_type, '' AS tab FROM information_schema.user_privileges WHERE {mine}
			UNION ALL SELECT privilege_type, '' FROM information_schema.schema_privileges WHERE database() LIKE table_schema AND {mine}
			UNION ALL SELECT privilege_type, table_name FROM information_schema.table_privileges WHERE table_schema = database() AND {mine}
			UNION ALL SELECT privilege_type,
				table_name FROM information_schema.column_privileges WHERE table_schema = database() AND {mine}) p
		ON p.tab IN ('', t.table_name)
		WHERE t.table_schema = database() AND t.table_type = 'BASE TABLE' GROUP BY t.table_name`, "{mine}", mine))
	return out, err
}

func (d dialect) Describe(ctx context.Context, q engine.Queryer) (map[string]catalog.Place, error) {
	foreign := map[string]engine.ForeignColumn{}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var table, column string
		var to engine.ForeignColumn
		var columns int
		err := rows.Scan(&table, &column, &to.Place, &to.Column, &to.Follows, &columns)
		if columns == 1 {
			foreign[table+"\x00"+column] = to
		}
		return err
	}, `SELECT k.table_name, k.column_name, concat(if(k.referenced_table_schema = database(), '', concat(k.referenced_table_schema, '.')), k.referenced_table_name), k.referenced_column_name,
		r.update_rule = 'CASCADE', count(*) OVER (PARTITION BY k.table_name, k.constraint_name)
		FROM information_schema.key_column_usage k
			JOIN information_schema.referential_constraints r ON r.constraint_schema = k.constraint_schema AND r.table_name = k.table_name AND r.constraint_name = k.constraint_name
		WHERE k.table_schema = database() AND k.referenced_table_name IS NOT NULL`)
	if err != nil {
		return nil, err
	}
	// MariaDB keeps JSON as text with a check, which is how it can be told.
	documents := map[string]bool{}
	var rules []catalog.Rule
	var ruled []string
	readRule := func(rows *sql.Rows) error {
		var table, name, clause string
		err := rows.Scan(&table, &name, &clause)
		rules, ruled = append(rules, catalog.Rule{Name: name, Text: clause}), append(ruled, table)
		if column, ok := strings.CutPrefix(clause, "json_valid(`"); ok {
			documents[table+"\x00"+strings.TrimSuffix(column, "`)")] = true
		}
		return err
	}
	if err := engine.EachRow(ctx, q, readRule,
		"SELECT table_name, constraint_name, check_clause FROM information_schema.check_constraints WHERE constraint_schema = database()"); err != nil {
		// MySQL does not say the table there, but its constraints have names of their own.
		_ = engine.EachRow(ctx, q, readRule,
			`SELECT t.table_name, c.constraint_name, c.check_clause FROM information_schema.check_constraints c
			JOIN information_schema.table_constraints t ON t.constraint_schema = c.constraint_schema AND t.constraint_name = c.constraint_name
			WHERE c.constraint_schema = database() AND t.constraint_type = 'CHECK'`)
	}
	rights, err := d.rights(ctx, q)
	if err != nil {
		return nil, err
	}
	places := map[string]catalog.Place{}
	err = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, kind, storage, declared, data, extra string
		var c catalog.Column
		var keys int
		var primary, transactional bool
		var collation sql.NullString
		if err := rows.Scan(&place, &kind, &storage, &c.Name, &declared, &data, &c.Required, &c.Default, &extra, &primary, &keys,
			&collation); err != nil {
			return err
		}
		extra = strings.ToLower(extra)
		c.Limits = limitsOf(declared)
		c.Declared, c.Kind = strings.ToLower(declared), kindOf(strings.ToLower(declared), strings.ToLower(data))
		if documents[place+"\x00"+c.Name] {
			c.Kind = record.JSON
		}
		c.Loose = looseText(c.Kind, collation.String)
		c.Derived = strings.Contains(extra, "generated") && !strings.Contains(extra, "default_generated") ||
			strings.Contains(extra, "virtual") || strings.Contains(extra, "stored")
		c.Default = c.Default || strings.Contains(extra, "auto_increment")
		to := foreign[place+"\x00"+c.Name]
		c.RefersTo, c.RefersColumn, c.Follows = to.Place, to.Column, to.Follows
		c.InnerID = primary && keys == 1
		c.NoEquality = c.Declared == "json"
		transactional = kind == "VIEW" || strings.EqualFold(storage, "InnoDB")
		p := places[place]
		p.Name, p.ReadOnly, p.NoRollback = place, kind == "VIEW", !transactional
		if g, ok := rights[place]; ok {
			p.CannotInsert, p.CannotUpdate, p.CannotDelete = !g.insert, !g.update, !g.remove
		}
		p.Columns = append(p.Columns, c)
		places[place] = p
		return nil
	}, `SELECT t.table_name, t.table_type, coalesce(t.engine, ''), c.column_name, c.column_type, c.data_type, c.is_nullable = 'NO', c.column_default IS NOT NULL AND c.column_default <> 'NULL', c.extra,
			c.column_key = 'PRI', sum(c.column_key = 'PRI') OVER (PARTITION BY t.table_name), c.collation_name
		FROM information_schema.tables t JOIN information_schema.columns c ON c.table_schema = t.table_schema AND c.table_name = t.table_name
		WHERE t.table_schema = database() ORDER BY t.table_name, c.ordinal_position`)
	if err == nil {
		err = engine.AddForeign(ctx, q, places,
			`SELECT table_name, constraint_name, concat(if(referenced_table_schema = database(), '', concat(referenced_table_schema, '.')), referenced_table_name),
				column_name, referenced_column_name
			FROM information_schema.key_column_usage WHERE table_schema = database() AND referenced_table_name IS NOT NULL ORDER BY 1, 2, ordinal_position`)
	}
	if err == nil {
		err = triggers(ctx, q, places)
	}
	if err != nil {
		return nil, err
	}
	for i, rule := range rules {
		engine.AddRule(places, ruled[i], rule)
	}
	return places, engine.AddKeys(ctx, q, places,
		`SELECT table_name, index_name, index_name = 'PRIMARY', CASE WHEN sub_part IS NULL THEN column_name END
		FROM information_schema.statistics WHERE table_schema = database() AND non_unique = 0 ORDER BY table_name, index_name,
			seq_in_index`)
}

// Referring lists the foreign keys that point at a table, those of other databases too.
func (d dialect) Referring(ctx context.Context, q engine.Queryer, place string) ([]engine.Referring, error) {
	return engine.ReferringBy(ctx, q, d.inDatabase,
		`SELECT constraint_name, if(table_schema = database(), table_name, concat(table_schema, char(1), table_name)),
			table_schema = database() AND table_name = referenced_table_name, column_name, referenced_column_name
		FROM information_schema.key_column_usage WHERE referenced_table_schema = database() AND referenced_table_name = ? ORDER BY 2, 1, ordinal_position`, place)
}

func (d dialect) inDatabase(name string) string {
	schema, table, other := strings.Cut(name, "\x01")
	if !other {
		return d.Quote(name)
	}
	return d.Quote(schema) + "." + d.Quote(table)
}

// limitsOf reads the limits of a declared type, with the words of enumerations and sets.
func limitsOf(declared string) catalog.Limits {
	out := engine.Limits(declared)
	switch word := strings.ToLower(declared); {
	case strings.HasPrefix(word, "enum("):
		out.OneOf = engine.QuotedWords(declared)
	case strings.HasPrefix(word, "set("):
		out.AnyOf = engine.QuotedWords(declared)
	}
	return out
}

// looseText reports whether values of a column can be the same to the server though they
// differ: by its collation, which nearly always leaves blanks at the end out.
func looseText(kind record.Kind, collation string) bool {
	return kind == record.Text && !strings.HasSuffix(collation, "nopad_bin") && !strings.HasSuffix(collation, "0900_bin")
}

// triggers notes what triggers fill, and where there are any.
func triggers(ctx context.Context, q engine.Queryer, places map[string]catalog.Place) error {
	if err := engine.AddTriggers(ctx, q, places, `SELECT event_object_table, action_statement FROM information_schema.triggers
			WHERE event_object_schema = database() AND action_timing = 'BEFORE' ORDER BY 1, trigger_name`, engine.NewColumn); err != nil {
		return err
	}
	return engine.MarkPlaces(ctx, q, places, engine.HasAnyTrigger,
		"SELECT event_object_table FROM information_schema.triggers WHERE event_object_schema = database()")
}

func kindOf(declared, data string) record.Kind {
	switch {
	case declared == "tinyint(1)", declared == "bit(1)":
		return record.Boolean
	case strings.HasSuffix(data, "int"), data == "year", data == "bit":
		return record.Integer
	case data == "decimal", data == "float", data == "double":
		return record.Decimal
	case data == "date":
		return record.Date
	case data == "time":
		return record.Time
	case data == "datetime":
		return record.LocalTimestamp
	case data == "timestamp":
		return record.Timestamp
	case data == "json":
		return record.JSON
	case strings.HasSuffix(data, "blob"), strings.HasSuffix(data, "binary"):
		return record.Bytes
	default:
		return record.Text
	}
}
