package sqldb

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// OpenPostgres opens a PostgreSQL database. The address is a postgres:// URL without
// a password; an empty password leaves it to PostgreSQL's own conventions (password
// file, environment variables, service names).
func OpenPostgres(ctx context.Context, name, address, password string, readOnly bool) (environment.Environment, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, &environment.Error{Environment: name, Message: "connect: is not an address of PostgreSQL.", Mend: "It looks like postgres://account@host:5432/database.", Cause: err}
	}
	if password != "" {
		config.Password = password
	}
	// Everything is read and written as text in these forms, whatever the server's own
	// settings are, so that nothing is rounded or shifted.
	for setting, value := range map[string]string{
		"DateStyle": "ISO, YMD", "TimeZone": "UTC", "IntervalStyle": "iso_8601", "extra_float_digits": "3", "bytea_output": "hex",
		"client_encoding": "UTF8", "application_name": "anagram", "lock_timeout": fmt.Sprint(waitMilliseconds),
	} {
		config.RuntimeParams[setting] = value
	}
	d := postgresDialect{host: net.JoinHostPort(config.Host, fmt.Sprint(config.Port)), database: config.Database, account: config.User}
	return open(ctx, name, d, stdlib.OpenDB(*config), readOnly)
}

type postgresDialect struct{ host, database, account string }

func (postgresDialect) Quote(name string) string { return pgx.Identifier{name}.Sanitize() }
func (postgresDialect) Mark(n int) string        { return fmt.Sprintf("$%d", n) }
func (postgresDialect) ForUpdate() string        { return " FOR UPDATE" }
func (postgresDialect) OneAtATime() bool         { return true }
func (postgresDialect) Savepoints() bool         { return true }

// Place quotes a table; one of another schema than the default has its schema before a dot.
func (d postgresDialect) Place(place string) string {
	if schema, table, ok := strings.Cut(place, "."); ok {
		return d.Quote(schema) + "." + d.Quote(table)
	}
	return d.Quote(place)
}

func (d postgresDialect) Select(c catalog.Column) string {
	if c.Kind == record.Bytes {
		return d.Quote(c.Name)
	}
	return d.Quote(c.Name) + "::text"
}

func (postgresDialect) In(columns []string, n int) string { return rowsIn(columns, n, "") }

func (postgresDialect) BeginRead() []string {
	return []string{"BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"}
}

// lockNumber is the advisory lock that one import at a time holds: "Angm".
const lockNumber = 0x416e676d

var errLocked = errors.New("another import is at work")

// BeginWrite uses repeatable read: a record that somebody changes between reading it
// again and writing it makes the import fail instead of being overwritten.
func (postgresDialect) BeginWrite(ctx context.Context, q Queryer) error {
	if _, err := q.ExecContext(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return err
	}
	var got bool
	err := eachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&got) }, fmt.Sprintf("SELECT pg_try_advisory_xact_lock(%d)", lockNumber))
	if err == nil && !got {
		err = errLocked
	}
	if err != nil {
		_, _ = q.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return err
}

func (postgresDialect) EndWrite(context.Context, Queryer) {}

// BeforeInserts moves a sequence that lags behind the data to where it should be; an
// insert would otherwise meet a number that is taken.
func (d postgresDialect) BeforeInserts(ctx context.Context, q Queryer, place, id string) error {
	if id == "" {
		return nil
	}
	var sequence sql.NullString
	var largest sql.NullInt64
	if err := eachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&sequence) },
		"SELECT pg_get_serial_sequence($1, $2)", d.Place(place), id); err != nil || !sequence.Valid {
		return err
	}
	if err := eachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&largest) },
		fmt.Sprintf("SELECT max(%s) FROM %s", d.Quote(id), d.Place(place))); err != nil || !largest.Valid {
		return err
	}
	if _, err := q.ExecContext(ctx, "SAVEPOINT anagram_sequence"); err != nil {
		return err
	}
	_, err := q.ExecContext(ctx, fmt.Sprintf("SELECT setval('%s', $1::bigint) FROM %s WHERE last_value < $1::bigint", strings.ReplaceAll(sequence.String, "'", "''"), sequence.String), largest.Int64)
	if err != nil { // without the right to set it, the insert itself will say what is wrong
		_, err = q.ExecContext(ctx, "ROLLBACK TO SAVEPOINT anagram_sequence")
		return err
	}
	_, err = q.ExecContext(ctx, "RELEASE SAVEPOINT anagram_sequence")
	return err
}

func (d postgresDialect) About(ctx context.Context, q Queryer) (environment.Description, error) {
	about := environment.Description{Address: fmt.Sprintf("postgres://%s/%s", d.host, d.database)}
	var writable, readable, tables int
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		return rows.Scan(&about.Product, &about.Account, &about.Clock, &tables, &readable, &writable)
	}, `SELECT 'PostgreSQL ' || split_part(current_setting('server_version'), ' ', 1), current_user, clock_timestamp(), count(*),
		count(*) FILTER (WHERE has_table_privilege(c.oid, 'SELECT')), count(*) FILTER (WHERE has_table_privilege(c.oid, 'INSERT') AND has_table_privilege(c.oid, 'UPDATE'))
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\_%'`)
	about.Rights = rightsText(tables, readable, writable)
	return about, err
}

// rightsText says what an account may do with the tables.
func rightsText(tables, readable, writable int) string {
	part := func(n int) string {
		switch n {
		case tables:
			return "all tables"
		case 0:
			return "no table"
		default:
			return fmt.Sprintf("%d of %d tables", n, tables)
		}
	}
	if readable == writable {
		return "read and write " + part(readable)
	}
	return "read " + part(readable) + ", write " + part(writable)
}

func (d postgresDialect) Describe(ctx context.Context, q Queryer) (map[string]catalog.Place, error) {
	places := map[string]catalog.Place{}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, kind, generated, identity, declared, base, category, refers string
		var c catalog.Column
		var inner, readable, inserts, updates bool
		if err := rows.Scan(&place, &kind, &c.Name, &declared, &base, &category, &c.Required, &c.Default, &generated, &identity, &refers, &c.RefersColumn, &c.Follows, &inner, &readable, &inserts, &updates); err != nil {
			return err
		}
		c.Declared, c.Kind, c.Limits = declared, postgresKind(base), limits(declared)
		c.Derived, c.Default = generated != "", c.Default || identity != ""
		c.RefersTo, c.InnerID, c.Unreadable = refers, inner, !readable
		p := places[place]
		p.Name, p.ReadOnly = place, kind == "v" || kind == "m"
		p.CannotInsert, p.CannotUpdate = !inserts, !updates
		p.Columns = append(p.Columns, c)
		places[place] = p
		return nil
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, c.relkind::text, a.attname,
			format_type(a.atttypid, a.atttypmod), coalesce(b.typname, t.typname)::text, t.typcategory::text,
			a.attnotnull OR t.typnotnull, a.atthasdef AND a.attgenerated = '', a.attgenerated::text, a.attidentity::text,
			coalesce((SELECT CASE WHEN fn.nspname = current_schema() THEN '' ELSE fn.nspname || '.' END || fc.relname
				FROM pg_constraint f JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
				WHERE f.contype = 'f' AND f.conrelid = c.oid AND f.conkey = ARRAY[a.attnum] LIMIT 1), ''),
			coalesce((SELECT ra.attname FROM pg_constraint f JOIN pg_attribute ra ON ra.attrelid = f.confrelid AND ra.attnum = f.confkey[1]
				WHERE f.contype = 'f' AND f.conrelid = c.oid AND f.conkey = ARRAY[a.attnum] LIMIT 1), ''),
			coalesce((SELECT f.confupdtype = 'c' FROM pg_constraint f WHERE f.contype = 'f' AND f.conrelid = c.oid AND f.conkey = ARRAY[a.attnum] LIMIT 1), false),
			EXISTS (SELECT 1 FROM pg_constraint p WHERE p.contype = 'p' AND p.conrelid = c.oid AND p.conkey = ARRAY[a.attnum]),
			has_column_privilege(c.oid, a.attnum, 'SELECT'), has_any_column_privilege(c.oid, 'INSERT'), has_any_column_privilege(c.oid, 'UPDATE')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
			JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type b ON b.oid = nullif(t.typbasetype, 0)
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\_%' AND has_schema_privilege(n.oid, 'USAGE')
		ORDER BY n.nspname, c.relname, a.attnum`)
	if err != nil {
		return nil, err
	}
	err = addForeign(ctx, q, places, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, f.conname,
			CASE WHEN fn.nspname = current_schema() THEN '' ELSE fn.nspname || '.' END || fc.relname, a.attname, ra.attname
		FROM pg_constraint f JOIN pg_class c ON c.oid = f.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			JOIN pg_class fc ON fc.oid = f.confrelid JOIN pg_namespace fn ON fn.oid = fc.relnamespace
			CROSS JOIN LATERAL unnest(f.conkey, f.confkey) WITH ORDINALITY k(here, there, at)
			JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.here JOIN pg_attribute ra ON ra.attrelid = fc.oid AND ra.attnum = k.there
		WHERE f.contype = 'f' AND array_length(f.conkey, 1) > 1 ORDER BY 1, 2, k.at`)
	if err == nil {
		err = addTriggers(ctx, q, places, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, p.prosrc
			FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_proc p ON p.oid = t.tgfoid
			WHERE NOT t.tgisinternal AND t.tgtype & 2 = 2 ORDER BY 1, t.tgname`, newColumn)
	}
	if err == nil {
		err = d.describeRules(ctx, q, places)
	}
	if err != nil {
		return nil, err
	}
	return places, addKeys(ctx, q, places, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, i.indexrelid::text, i.indisprimary, a.attname
		FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY k(no, at) LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.no AND k.no > 0
		WHERE i.indisunique AND i.indpred IS NULL AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\_%' AND k.at <= i.indnkeyatts
		ORDER BY 1, i.indexrelid, k.at`)
}

// Breaks reports whether a value was refused as it breaks the rule of a domain.
func (postgresDialect) Breaks(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23514"
}

// describeRules reads check constraints, those of domains too, and the words of enumerations.
func (d postgresDialect) describeRules(ctx context.Context, q Queryer, places map[string]catalog.Place) error {
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, columns string
		var rule catalog.Rule
		err := rows.Scan(&place, &rule.Name, &rule.Text, &columns)
		rule.Columns = strings.Split(columns, "\x01")
		addRule(places, place, rule)
		return err
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, k.conname, pg_get_expr(k.conbin, k.conrelid),
			(SELECT string_agg(a.attname, chr(1) ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = ANY (k.conkey))
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE k.contype = 'c' AND cardinality(k.conkey) > 0 ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	err = eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, column string
		var rule catalog.Rule
		err := rows.Scan(&place, &rule.Name, &rule.Text, &column)
		rule.Text, rule.Columns = valueAs(rule.Text, d.Quote(column)), []string{column}
		addRule(places, place, rule)
		return err
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, k.conname, pg_get_expr(k.conbin, 0), a.attname
		FROM pg_constraint k JOIN pg_attribute a ON a.atttypid = k.contypid AND a.attnum > 0 AND NOT a.attisdropped
			JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE k.contype = 'c' AND k.contypid <> 0 AND c.relkind IN ('r', 'p', 'f') ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	return eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, column, words string
		err := rows.Scan(&place, &column, &words)
		for i, c := range places[place].Columns {
			if c.Name == column {
				places[place].Columns[i].Limits.OneOf = strings.Split(words, "\x01")
			}
		}
		return err
	}, `SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname, a.attname, (SELECT string_agg(e.enumlabel, chr(1) ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid)
		FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE t.typtype = 'e' AND c.relkind IN ('r', 'p', 'f') AND NOT a.attisdropped AND EXISTS (SELECT 1 FROM pg_enum e WHERE e.enumtypid = t.oid)`)
}

// addKeys adds primary keys and unique indexes to places. The query gives place, index,
// whether it is the primary key, and a column (null for an expression), in order.
func addKeys(ctx context.Context, q Queryer, places map[string]catalog.Place, query string) error {
	found := map[string]*uniques{}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, index string
		var primary bool
		var column sql.NullString
		if err := rows.Scan(&place, &index, &primary, &column); err != nil {
			return err
		}
		p, ok := places[place]
		switch {
		case !ok:
		case primary:
			p.Primary = append(p.Primary, column.String)
			places[place] = p
		default:
			if found[place] == nil {
				found[place] = &uniques{}
			}
			found[place].add(index, column)
		}
		return nil
	}, query)
	for place, u := range found {
		p := places[place]
		p.Unique = u.lists()
		places[place] = p
	}
	return err
}

// postgresKind maps the server's base types; the others (uuid, enumerations, arrays,
// networks, ranges) are carried as the text that the server itself writes and reads.
func postgresKind(base string) record.Kind {
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

func (postgresDialect) Decode(stored any, kind record.Kind) (record.Value, error) {
	return decodeText(stored, kind)
}

// decodeText decodes what an engine delivers as text, and bytes for bytes.
func decodeText(stored any, kind record.Kind) (record.Value, error) {
	switch v := stored.(type) {
	case nil:
		return record.NullValue(), nil
	case []byte:
		if kind == record.Bytes {
			return record.BytesValue(v), nil
		}
		return decodeText(string(v), kind)
	case int64, float64:
		return decodeText(fmt.Sprint(v), kind)
	case string:
		if kind == record.Boolean {
			switch v {
			case "t", "true", "1", "\x01":
				return record.BooleanValue(true), nil
			case "f", "false", "0", "\x00":
				return record.BooleanValue(false), nil
			}
		}
		if kind != record.Bytes {
			value, err := record.Parse(kind, v)
			if err != nil {
				err = fmt.Errorf("%w. Correct the value, or say what the field holds with as: in the catalog", err)
			}
			return value, err
		}
	}
	return record.Value{}, fmt.Errorf("it holds %s, which cannot be read as %s. Say what the field holds with as: in the catalog, or correct the value", describeStored(stored), kind)
}

func (postgresDialect) Encode(v record.Value, c catalog.Column) (any, error) {
	switch v.Kind() {
	case record.Null:
		return nil, nil
	case record.Bytes:
		return contentOf(v)
	case record.Boolean:
		if c.Kind != record.Boolean && c.Kind != record.Null { // kept as a number or a text
			return map[string]string{"true": "1", "false": "0"}[v.Text()], nil
		}
		return v.Text(), nil
	case record.Text:
		if strings.ContainsRune(v.Text(), 0) {
			return nil, errors.New("the text holds a NUL character, which PostgreSQL cannot keep")
		}
		return v.Text(), nil
	default:
		return v.Text(), nil
	}
}

// Literal writes a value as PostgreSQL reads it.
func (postgresDialect) Literal(stored any) string {
	if content, ok := stored.([]byte); ok {
		return `'\x` + hex.EncodeToString(content) + "'"
	}
	return plainLiteral(stored)
}

// Decides leaves out types of their own (enumerations, networks), whose comparison with a
// text that is none of their values is an error.
func (postgresDialect) Decides(c catalog.Column, v record.Value) bool {
	switch v.Kind() {
	case record.Text:
		word := strings.ToLower(c.Declared)
		return word == "text" || strings.HasPrefix(word, "character")
	case record.Integer:
		return inRange(v, map[string]int{"smallint": 16, "integer": 32, "bigint": 64}[c.Declared])
	case record.Decimal:
		return strings.HasPrefix(c.Declared, "numeric")
	default:
		return true
	}
}

// inRange reports whether a whole number fits into so many bits.
func inRange(v record.Value, bits int) bool {
	_, err := strconv.ParseInt(v.Text(), 10, bits)
	return bits > 0 && err == nil
}

// Answered leaves out what the server says when it goes away.
func (postgresDialect) Answered(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && !lostPostgres(pg.Code)
}

func (postgresDialect) Refused(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && !lostPostgres(pg.Code) && pg.Code != "40001"
}

func lostPostgres(code string) bool {
	return strings.HasPrefix(code, "57P") || strings.HasPrefix(code, "08")
}

func (d postgresDialect) Explain(err error) (message, mend string) {
	if errors.Is(err, errLocked) {
		return fmt.Sprintf("another import is at work in %s.", d.database), "Wait until it has finished and try again."
	}
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		var connect *pgconn.ConnectError
		if errors.As(err, &connect) {
			return fmt.Sprintf("%s cannot be reached as %s.", d.host, d.account), "Check address, account and network; the reason given is: " + cause(err) + "."
		}
		return "the connection to " + d.host + " was lost: " + cause(err) + ".", "Check the server and try again; nothing is half-written."
	}
	switch {
	case pg.Code == "28P01" || pg.Code == "28000":
		return fmt.Sprintf("%s refuses the account %s.", d.host, d.account), "Check the password: of this environment in anagram.yaml, or PostgreSQL's own password file."
	case pg.Code == "3D000":
		return fmt.Sprintf("%s has no database %q.", d.host, d.database), "Correct connect: of this environment in anagram.yaml."
	case pg.Code == "42501":
		return fmt.Sprintf("the account %s may not do this: %s.", d.account, pg.Message), "Ask for the right, or use another account."
	case pg.Code == "55P03":
		return "somebody else is changing the same records.", "Wait until they have finished and try again."
	case pg.Code == "40001":
		return "somebody else changed the same records at the same time.", "Import again; what moved is then left out and named."
	case lostPostgres(pg.Code):
		return "the connection to " + d.host + " was lost: " + pg.Message + ".", "Check the server and try again; nothing is half-written."
	case strings.HasPrefix(pg.Code, "22") || strings.HasPrefix(pg.Code, "23"):
		text := "the database refuses it: " + pg.Message + "."
		if pg.Detail != "" {
			text += " " + pg.Detail
		}
		return text, "Correct the value in the source, or decline the record."
	default:
		return fmt.Sprintf("%s (%s).", pg.Message, pg.Code), ""
	}
}

// cause gives the innermost reason, without the address and account around it.
func cause(err error) string {
	for {
		inner := errors.Unwrap(err)
		if several, ok := err.(interface{ Unwrap() []error }); ok && len(several.Unwrap()) > 0 {
			inner = several.Unwrap()[0] // one try for each address of a host; they fail alike
		}
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}
