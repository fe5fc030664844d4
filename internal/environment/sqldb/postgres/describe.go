package postgres

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

func (d dialect) Describe(ctx context.Context, q engine.Queryer) (map[string]catalog.Place, error) {
	places := map[string]catalog.Place{}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, kind, generated, identity, declared, base, category, refers string
		var c catalog.Column
		var inner, readable, inserts, updates, deletes bool
		if err := rows.Scan(&place, &kind, &c.Name, &declared, &base, &category, &c.Required, &c.Default, &generated, &identity,
			&refers, &c.RefersColumn, &c.Follows, &inner, &readable, &inserts, &updates, &deletes, &c.Loose, &c.Waits); err != nil {
			return err
		}
		c.Declared, c.Kind, c.Limits = declared, kindOf(base), engine.Limits(declared)
		if element, array := strings.CutPrefix(base, "_"); array && category == "A" && element != "box" { // boxes are not parted by commas
			c.Kind, c.Element, c.Limits = record.JSON, max(kindOf(element), record.Text), catalog.Limits{}
			base = element
		}
		c.NoEquality = slices.Contains([]string{"json", "xml", "point", "line", "lseg", "path", "polygon"}, base)
		c.Given = identity == "a" // GENERATED ALWAYS
		c.Derived, c.Default = generated != "" || c.Given, c.Default || identity != ""
		c.RefersTo, c.InnerID, c.Unreadable = refers, inner, !readable
		p := places[place]
		p.Name, p.ReadOnly = place, kind == "v" || kind == "m"
		p.CannotInsert, p.CannotUpdate, p.CannotDelete = !inserts, !updates, !deletes
		p.Columns = append(p.Columns, c)
		places[place] = p
		return nil
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, c.relkind::text, a.attname,
			format_type(a.atttypid, a.atttypmod), coalesce(b.typname, t.typname)::text, t.typcategory::text,
			a.attnotnull OR t.typnotnull, a.atthasdef AND a.attgenerated = '', a.attgenerated::text, a.attidentity::text,
			coalesce((SELECT CASE WHEN fn.nspname = current_schema() THEN '' ELSE fn.nspname || '.' END ||
				CASE WHEN strpos(fc.relname, '.') > 0 THEN '"' || fc.relname || '"' ELSE fc.relname END
				FROM pg_constraint f JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
				WHERE f.contype = 'f' AND f.conrelid = c.oid AND f.conkey = ARRAY[a.attnum] LIMIT 1), ''),
			coalesce((SELECT ra.attname FROM pg_constraint f JOIN pg_attribute ra ON ra.attrelid = f.confrelid AND ra.attnum = f.confkey[1]
				WHERE f.contype = 'f' AND f.conrelid = c.oid AND f.conkey = ARRAY[a.attnum] LIMIT 1), ''),
			coalesce((SELECT f.confupdtype = 'c' FROM pg_constraint f WHERE f.contype = 'f' AND f.conrelid = c.oid AND f.conkey = ARRAY[a.attnum] LIMIT 1), false),
			EXISTS (SELECT 1 FROM pg_constraint p WHERE p.contype = 'p' AND p.conrelid = c.oid AND p.conkey = ARRAY[a.attnum]),
			has_column_privilege(c.oid, a.attnum, 'SELECT'), NOT pg_is_in_recovery() AND has_any_column_privilege(c.oid,
				'INSERT'), NOT pg_is_in_recovery() AND has_any_column_privilege(c.oid, 'UPDATE'),
				NOT pg_is_in_recovery() AND has_table_privilege(c.oid, 'DELETE'),
			coalesce(b.typname,
				t.typname) = 'citext' OR coalesce((SELECT NOT l.collisdeterministic FROM pg_collation l WHERE l.oid = a.attcollation), false),
			coalesce((SELECT bool_and(f.condeferrable) FROM pg_constraint f WHERE f.contype = 'f' AND f.conrelid = c.oid AND a.attnum = ANY (f.conkey)), false)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
			JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type b ON b.oid = nullif(t.typbasetype, 0)
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog',
			'information_schema') AND n.nspname NOT LIKE 'pg\_%' AND has_schema_privilege(n.oid, 'USAGE')
		ORDER BY n.nspname, c.relname, a.attnum`)
	if err != nil {
		return nil, err
	}
	err = engine.AddForeign(ctx, q, places,
		`SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, f.conname,
			CASE WHEN fn.nspname = current_schema() THEN '' ELSE fn.nspname || '.' END || CASE WHEN strpos(fc.relname,
				'.') > 0 THEN '"' || fc.relname || '"' ELSE fc.relname END, a.attname, ra.attname
		FROM pg_constraint f JOIN pg_class c ON c.oid = f.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
			CROSS JOIN LATERAL unnest(f.conkey, f.confkey) WITH ORDINALITY k(here, there, at)
			JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.here JOIN pg_attribute ra ON ra.attrelid = fc.oid AND ra.attnum = k.there
		WHERE f.contype = 'f' AND array_length(f.conkey, 1) > 1 ORDER BY 1, 2, k.at`)
	if err == nil {
		err = engine.AddTriggers(ctx, q, places,
			`SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, p.prosrc
			FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_proc p ON p.oid = t.tgfoid
			WHERE NOT t.tgisinternal AND t.tgtype & 2 = 2 ORDER BY 1, t.tgname`, engine.NewColumn)
	}
	const place = `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace `
	if err == nil {
		err = engine.MarkPlaces(ctx, q, places, engine.HasAnyTrigger,
			place+"WHERE c.relhasrules OR EXISTS (SELECT 1 FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal)")
	}
	if err == nil {
		// COPY passes over the rules of a table, and over numbers that only the server may give.
		err = engine.MarkPlaces(ctx, q, places, func(p *catalog.Place) { p.NoBulk = true },
			place+"WHERE c.relhasrules OR EXISTS (SELECT 1 FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attidentity = 'a' AND NOT a.attisdropped)")
	}
	if err == nil {
		err = engine.MarkPlaces(ctx, q, places, func(p *catalog.Place) { p.Inherited = true },
			place+"WHERE c.relkind = 'r' AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhparent = c.oid)")
	}
	if err == nil {
		err = engine.MarkPlaces(ctx, q, places, func(p *catalog.Place) { p.Quiet = true },
			place+"WHERE c.relkind = 'r' AND NOT c.relhasrules AND NOT EXISTS (SELECT 1 FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal) AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhparent = c.oid)")
	}
	if err == nil {
		err = d.describeRules(ctx, q, places)
	}
	if err != nil {
		return nil, err
	}
	const keys = ` FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY k(no,
				at) LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.no AND k.no > 0
		WHERE i.indisunique AND n.nspname NOT IN ('pg_catalog',
			'information_schema') AND n.nspname NOT LIKE 'pg\_%' AND k.at <= i.indnkeyatts`
	err = engine.AddPartly(ctx, q, places,
		`SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, i.indexrelid::text, pg_get_expr(i.indpred, i.indrelid), a.attname`+keys+` AND i.indpred IS NOT NULL ORDER BY 1, i.indexrelid, k.at`)
	if err != nil {
		return nil, err
	}
	return places, engine.AddKeys(ctx, q, places,
		`SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, i.indexrelid::text, i.indisprimary, a.attname`+keys+` AND i.indpred IS NULL ORDER BY 1, i.indexrelid, k.at`)
}

// Referring lists the foreign keys of all schemas that point at a table.
func (d dialect) Referring(ctx context.Context, q engine.Queryer, place string) ([]engine.Referring, error) {
	return engine.ReferringBy(ctx, q, func(name string) string { return inSchema(d, name) },
		`SELECT f.conname, CASE WHEN n.nspname = current_schema() THEN c.relname ELSE n.nspname || chr(1) || c.relname END, c.oid = fc.oid, a.attname, ra.attname
		FROM pg_constraint f JOIN pg_class c ON c.oid = f.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class fc ON fc.oid = f.confrelid
			CROSS JOIN LATERAL unnest(f.conkey, f.confkey) WITH ORDINALITY k(here, there, at)
			JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.here JOIN pg_attribute ra ON ra.attrelid = fc.oid AND ra.attnum = k.there
		WHERE f.contype = 'f' AND f.conparentid = 0 AND f.confrelid = $1::text::regclass ORDER BY 2, 1, k.at`, d.Place(place))
}

func inSchema(d dialect, name string) string {
	schema, table, other := strings.Cut(name, "\x01")
	if !other {
		return d.Quote(name)
	}
	return d.Quote(schema) + "." + d.Quote(table)
}

// onlyBuiltIn holds of a constraint k that neither itself nor the domains of its table's
// columns call a function or an operator that somebody made: to try it would run that. What
// comes with the server has no dependencies on record.
const onlyBuiltIn = `NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_constraint'::regclass AND d.refclassid IN ('pg_proc'::regclass, 'pg_operator'::regclass)
			AND (d.objid = k.oid OR d.objid IN (SELECT dk.oid FROM pg_constraint dk JOIN pg_attribute da ON da.atttypid = dk.contypid WHERE dk.contypid <> 0 AND da.attrelid = coalesce(nullif(k.conrelid, 0), c.oid))))`

// describeRules reads check constraints, those of domains too, and the words of enumerations.
func (d dialect) describeRules(ctx context.Context, q engine.Queryer, places map[string]catalog.Place) error {
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, columns string
		var rule catalog.Rule
		err := rows.Scan(&place, &rule.Name, &rule.Text, &columns)
		rule.Columns = strings.Split(columns, "\x01")
		engine.AddRule(places, place, rule)
		return err
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, k.conname, pg_get_expr(k.conbin, k.conrelid),
			(SELECT string_agg(a.attname,
				chr(1) ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = ANY (k.conkey))
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE k.contype = 'c' AND cardinality(k.conkey) > 0 AND `+onlyBuiltIn+` ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	err = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, column string
		var rule catalog.Rule
		err := rows.Scan(&place, &rule.Name, &rule.Text, &column)
		rule.Text, rule.Columns = engine.ValueAs(rule.Text, d.Quote(column)), []string{column}
		engine.AddRule(places, place, rule)
		return err
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, k.conname, pg_get_expr(k.conbin, 0), a.attname
		FROM pg_constraint k JOIN pg_attribute a ON a.atttypid = k.contypid AND a.attnum > 0 AND NOT a.attisdropped
			JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE k.contype = 'c' AND k.contypid <> 0 AND c.relkind IN ('r', 'p', 'f') AND `+onlyBuiltIn+` ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	return engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, column, words string
		err := rows.Scan(&place, &column, &words)
		for i, c := range places[place].Columns {
			if c.Name == column {
				places[place].Columns[i].Limits.OneOf = strings.Split(words, "\x01")
			}
		}
		return err
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || CASE WHEN strpos(c.relname, '.') > 0 THEN '"' || c.relname || '"' ELSE c.relname END, a.attname, (SELECT string_agg(e.enumlabel, chr(1) ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid)
		FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE t.typtype = 'e' AND c.relkind IN ('r', 'p',
			'f') AND NOT a.attisdropped AND EXISTS (SELECT 1 FROM pg_enum e WHERE e.enumtypid = t.oid)`)
}

// postgresKind maps the server's base types; the others (uuid, enumerations,
// networks, ranges) are carried as the text that the server itself writes and reads.
func kindOf(base string) record.Kind {
	switch base {
	case "int2", "int4", "int8":
		return record.Integer
	case "numeric", "float4", "float8":
		return record.Decimal
	case "bool":
		return record.Boolean
	case "date":
		return record.Date
	case "time":
		return record.Time
	case "timestamp":
		return record.LocalTimestamp
	case "timestamptz":
		return record.Timestamp
	case "json", "jsonb":
		return record.JSON
	case "bytea":
		return record.Bytes
	default:
		return record.Text
	}
}
