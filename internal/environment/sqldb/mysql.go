package sqldb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// OpenMySQL opens a MariaDB or MySQL database. The address is a mysql:// URL without a
// password: mysql://account@host:3306/database, with ?tls=true for an encrypted
// connection.
func OpenMySQL(ctx context.Context, name, address, password string, readOnly bool) (environment.Environment, error) {
	u, err := url.Parse(address)
	database := ""
	if err == nil {
		database = strings.TrimPrefix(u.Path, "/")
	}
	if err != nil || u.Host == "" || database == "" {
		return nil, &environment.Error{Environment: name, Message: "connect: is not an address of MariaDB or MySQL.", Mend: "It looks like mysql://account@host:3306/database."}
	}
	config := mysql.NewConfig()
	config.Net, config.Addr, config.DBName = "tcp", u.Host, database
	if u.Port() == "" {
		config.Addr += ":3306"
	}
	config.User, config.Passwd = u.User.Username(), password
	config.TLSConfig = u.Query().Get("tls")
	// Values go into statements on this side and come back as text, so that the server
	// never turns a number into a floating point one.
	config.InterpolateParams = true
	config.ClientFoundRows = true // a row that was right already counts as written
	config.Collation = "utf8mb4_bin"
	config.Logger = log.New(io.Discard, "", 0)
	config.Params = map[string]string{
		"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'", "innodb_lock_wait_timeout": "3",
		"character_set_results": "utf8mb4",
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, &environment.Error{Environment: name, Message: "connect: cannot be used: " + cause(err) + ".", Cause: err}
	}
	return open(ctx, name, mysqlDialect{host: config.Addr, database: database, account: config.User}, sql.OpenDB(connector), readOnly)
}

type mysqlDialect struct{ host, database, account string }

func (mysqlDialect) Quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }
func (mysqlDialect) Mark(int) string          { return "?" }
func (mysqlDialect) ForUpdate() string        { return " FOR UPDATE" }
func (mysqlDialect) OneAtATime() bool         { return true }
func (mysqlDialect) Savepoints() bool         { return false }
func (d mysqlDialect) Place(place string) string {
	if schema, table, ok := strings.Cut(place, "."); ok {
		return d.Quote(schema) + "." + d.Quote(table)
	}
	return d.Quote(place)
}

// Select brings what the text protocol would shorten or show as bytes to a full text.
func (d mysqlDialect) Select(c catalog.Column) string {
	switch {
	case strings.HasPrefix(c.Declared, "float"):
		return d.Quote(c.Name) + " + 0e0"
	case strings.HasPrefix(c.Declared, "bit"):
		return d.Quote(c.Name) + " + 0"
	default:
		return d.Quote(c.Name)
	}
}

func (mysqlDialect) In(columns []string, n int) string { return rowsIn(columns, n, "") }

func (mysqlDialect) BeginRead() []string {
	return []string{"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"}
}

func (d mysqlDialect) lock() string { return "anagram-" + d.database }

func (d mysqlDialect) BeginWrite(ctx context.Context, q Queryer) error {
	var got sql.NullInt64
	if err := eachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&got) }, "SELECT GET_LOCK(?, 0)", d.lock()); err != nil {
		return err
	}
	if got.Int64 != 1 {
		return errLocked
	}
	if _, err := q.ExecContext(ctx, "START TRANSACTION"); err != nil {
		d.EndWrite(context.WithoutCancel(ctx), q)
		return err
	}
	return nil
}

func (d mysqlDialect) EndWrite(ctx context.Context, q Queryer) {
	_ = eachRow(ctx, q, func(*sql.Rows) error { return nil }, "SELECT RELEASE_LOCK(?)", d.lock())
}

func (mysqlDialect) BeforeInserts(context.Context, Queryer, string, string) error { return nil }

func (d mysqlDialect) About(ctx context.Context, q Queryer) (environment.Description, error) {
	about := environment.Description{Address: fmt.Sprintf("mysql://%s/%s", d.host, d.database)}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var version string
		var micros int64
		if err := rows.Scan(&version, &about.Account, &micros); err != nil {
			return err
		}
		about.Clock = time.UnixMicro(micros)
		product := "MySQL "
		if strings.Contains(version, "MariaDB") {
			product = "MariaDB "
		}
		about.Product = product + strings.SplitN(version, "-", 2)[0]
		return nil
	}, "SELECT version(), current_user(), cast(unix_timestamp(sysdate(6)) * 1000000 AS signed)")
	if err != nil {
		return about, err
	}
	tables, err := d.rights(ctx, q)
	readable, writable := 0, 0
	for _, g := range tables {
		if g.read {
			readable++
		}
		if g.insert && g.update {
			writable++
		}
	}
	about.Rights = rightsText(len(tables), readable, writable)
	return about, err
}

// granted is what the account may do with one table.
type granted struct{ read, insert, update bool }

// rights reads what the account was granted on the whole server, the database, its tables
// and their columns.
func (d mysqlDialect) rights(ctx context.Context, q Queryer) (map[string]granted, error) {
	// An account that may read the server's own tables sees what others were granted, too.
	const mine = `grantee = concat("'", replace(current_user(), '@', "'@'"), "'")`
	out := map[string]granted{}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var table string
		var g granted
		err := rows.Scan(&table, &g.read, &g.insert, &g.update)
		out[table] = g
		return err
	}, strings.ReplaceAll(`
		SELECT t.table_name, coalesce(max(p.privilege_type = 'SELECT'), 0), coalesce(max(p.privilege_type = 'INSERT'), 0), coalesce(max(p.privilege_type = 'UPDATE'), 0)
		FROM information_schema.tables t LEFT JOIN (
			SELECT privilege_type, '' AS tab FROM information_schema.user_privileges WHERE {mine}
			UNION ALL SELECT privilege_type, '' FROM information_schema.schema_privileges WHERE database() LIKE table_schema AND {mine}
			UNION ALL SELECT privilege_type, table_name FROM information_schema.table_privileges WHERE table_schema = database() AND {mine}
			UNION ALL SELECT privilege_type, table_name FROM information_schema.column_privileges WHERE table_schema = database() AND {mine}) p
		ON p.tab IN ('', t.table_name)
		WHERE t.table_schema = database() AND t.table_type = 'BASE TABLE' GROUP BY t.table_name`, "{mine}", mine))
	return out, err
}

func (d mysqlDialect) Describe(ctx context.Context, q Queryer) (map[string]catalog.Place, error) {
	foreign := map[string]foreignColumn{}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var table, column string
		var to foreignColumn
		var columns int
		err := rows.Scan(&table, &column, &to.place, &to.column, &to.follows, &columns)
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
	if err := eachRow(ctx, q, readRule, "SELECT table_name, constraint_name, check_clause FROM information_schema.check_constraints WHERE constraint_schema = database()"); err != nil {
		// MySQL does not say the table there, but its constraints have names of their own.
		_ = eachRow(ctx, q, readRule, `SELECT t.table_name, c.constraint_name, c.check_clause FROM information_schema.check_constraints c
			JOIN information_schema.table_constraints t ON t.constraint_schema = c.constraint_schema AND t.constraint_name = c.constraint_name
			WHERE c.constraint_schema = database() AND t.constraint_type = 'CHECK'`)
	}
	rights, err := d.rights(ctx, q)
	if err != nil {
		return nil, err
	}
	places := map[string]catalog.Place{}
	err = eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, kind, engine, declared, data, extra string
		var c catalog.Column
		var keys int
		var primary, transactional bool
		if err := rows.Scan(&place, &kind, &engine, &c.Name, &declared, &data, &c.Required, &c.Default, &extra, &primary, &keys); err != nil {
			return err
		}
		extra = strings.ToLower(extra)
		c.Limits = limits(declared)
		if strings.HasPrefix(strings.ToLower(declared), "enum(") {
			c.Limits.OneOf = quotedWords(declared)
		}
		c.Declared, c.Kind = strings.ToLower(declared), mysqlKind(strings.ToLower(declared), strings.ToLower(data))
		if documents[place+"\x00"+c.Name] {
			c.Kind = record.JSON
		}
		c.Derived = strings.Contains(extra, "generated") && !strings.Contains(extra, "default_generated") || strings.Contains(extra, "virtual") || strings.Contains(extra, "stored")
		c.Default = c.Default || strings.Contains(extra, "auto_increment")
		to := foreign[place+"\x00"+c.Name]
		c.RefersTo, c.RefersColumn, c.Follows = to.place, to.column, to.follows
		c.InnerID = primary && keys == 1
		transactional = kind == "VIEW" || strings.EqualFold(engine, "InnoDB")
		p := places[place]
		p.Name, p.ReadOnly, p.NoRollback = place, kind == "VIEW", !transactional
		if g, ok := rights[place]; ok {
			p.CannotInsert, p.CannotUpdate = !g.insert, !g.update
		}
		p.Columns = append(p.Columns, c)
		places[place] = p
		return nil
	}, `SELECT t.table_name, t.table_type, coalesce(t.engine, ''), c.column_name, c.column_type, c.data_type, c.is_nullable = 'NO', c.column_default IS NOT NULL, c.extra,
			c.column_key = 'PRI', sum(c.column_key = 'PRI') OVER (PARTITION BY t.table_name)
		FROM information_schema.tables t JOIN information_schema.columns c ON c.table_schema = t.table_schema AND c.table_name = t.table_name
		WHERE t.table_schema = database() ORDER BY t.table_name, c.ordinal_position`)
	if err == nil {
		err = addForeign(ctx, q, places, `SELECT table_name, constraint_name, concat(if(referenced_table_schema = database(), '', concat(referenced_table_schema, '.')), referenced_table_name),
				column_name, referenced_column_name
			FROM information_schema.key_column_usage WHERE table_schema = database() AND referenced_table_name IS NOT NULL ORDER BY 1, 2, ordinal_position`)
	}
	if err == nil {
		err = addTriggers(ctx, q, places, `SELECT event_object_table, action_statement FROM information_schema.triggers
			WHERE event_object_schema = database() AND action_timing = 'BEFORE' ORDER BY 1, trigger_name`, newColumn)
	}
	if err != nil {
		return nil, err
	}
	for i, rule := range rules {
		addRule(places, ruled[i], rule)
	}
	return places, addKeys(ctx, q, places, `SELECT table_name, index_name, index_name = 'PRIMARY', CASE WHEN sub_part IS NULL THEN column_name END
		FROM information_schema.statistics WHERE table_schema = database() AND non_unique = 0 ORDER BY table_name, index_name, seq_in_index`)
}

// Trial gives values the types of columns by putting them under an empty selection of
// these: a cast does not know all types.
func (d mysqlDialect) Trial(place string, columns []catalog.Column, rows int) string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c.Name)
	}
	out := []string{fmt.Sprintf("SELECT -1 AS anagram_row, %s FROM %s WHERE FALSE", strings.Join(names, ", "), d.Place(place))}
	for n := range rows {
		out = append(out, fmt.Sprintf("SELECT %d, %s", n, marks(len(columns))))
	}
	return strings.Join(out, " UNION ALL ")
}

func mysqlKind(declared, data string) record.Kind {
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

// tidy makes texts of what the driver delivers as bytes, which is nearly everything.
func (mysqlDialect) tidy(stored any) any {
	switch v := stored.(type) {
	case []byte:
		return string(v)
	case uint64:
		return strconv.FormatUint(v, 10)
	case float32:
		return float64(v)
	default:
		return stored
	}
}

// Decode reads timestamps as instants: the session is set to UTC and MySQL shows no zone.
func (mysqlDialect) Decode(stored any, kind record.Kind) (record.Value, error) {
	if text, ok := stored.(string); ok && kind == record.Bytes {
		return record.BytesValue([]byte(text)), nil
	}
	if text, ok := stored.(string); ok && kind == record.Timestamp && !strings.ContainsAny(text, "Z+") {
		stored = text + "Z"
	}
	if f, ok := stored.(float64); ok {
		stored = strconv.FormatFloat(f, 'g', -1, 64)
	}
	return decodeText(stored, kind)
}

func (mysqlDialect) Encode(v record.Value, c catalog.Column) (any, error) {
	switch v.Kind() {
	case record.Null:
		return nil, nil
	case record.Bytes:
		return contentOf(v)
	case record.Integer:
		if i, err := strconv.ParseInt(v.Text(), 10, 64); err == nil {
			return i, nil
		}
		return v.Text(), nil
	case record.Boolean:
		return oneOrZero(v), nil
	case record.LocalTimestamp:
		return spaced(v), nil
	case record.Timestamp:
		if c.Kind == record.Text {
			return v.Text(), nil
		}
		return strings.TrimSuffix(spaced(v), "Z"), nil
	default:
		return v.Text(), nil
	}
}

// Literal writes a value as MySQL reads it: a backslash escapes, too.
func (mysqlDialect) Literal(stored any) string {
	if text, ok := stored.(string); ok {
		stored = strings.ReplaceAll(text, `\`, `\\`)
	}
	return plainLiteral(stored)
}

// Decides leaves out floating point columns, which do not compare exactly, and texts
// whose comparison depends on more than a collation.
func (mysqlDialect) Decides(c catalog.Column, v record.Value) bool {
	switch v.Kind() {
	case record.Text:
		return strings.Contains(c.Declared, "char") || strings.Contains(c.Declared, "text")
	case record.Decimal:
		return strings.HasPrefix(c.Declared, "decimal")
	default:
		return true
	}
}

// Answered leaves out what the server says when it goes away.
func (mysqlDialect) Answered(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && !lostMySQL(my.Number)
}

func (mysqlDialect) Refused(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && !lostMySQL(my.Number) && my.Number != 1205 && my.Number != 1213
}

func lostMySQL(number uint16) bool {
	return number == 1927 || number == 2006 || number == 2013 || number == 1053
}

func (d mysqlDialect) Explain(err error) (message, mend string) {
	if errors.Is(err, errLocked) {
		return fmt.Sprintf("another import is at work in %s.", d.database), "Wait until it has finished and try again."
	}
	var my *mysql.MySQLError
	if !errors.As(err, &my) {
		if errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return "the connection to " + d.host + " was lost.", "Check the server and try again; nothing is half-written."
		}
		return fmt.Sprintf("%s cannot be reached: %s.", d.host, cause(err)), "Check address and network."
	}
	if lostMySQL(my.Number) {
		return "the connection to " + d.host + " was lost: " + my.Message + ".", "Check the server and try again; nothing is half-written."
	}
	switch my.Number {
	case 1044:
		return fmt.Sprintf("the account %s may not use the database %q.", d.account, d.database), "Ask for the right, or correct connect: of this environment in anagram.yaml."
	case 1045, 1698:
		return fmt.Sprintf("%s refuses the account %s.", d.host, d.account), "Check the account and the password: of this environment in anagram.yaml."
	case 1049:
		return fmt.Sprintf("%s has no database %q.", d.host, d.database), "Correct connect: of this environment in anagram.yaml."
	case 1142, 1143, 1227, 1370:
		return fmt.Sprintf("the account %s may not do this: %s.", d.account, my.Message), "Ask for the right, or use another account."
	case 1205, 1213:
		return "somebody else is changing the same records.", "Wait until they have finished and try again."
	case 1048, 1062, 1264, 1265, 1292, 1364, 1366, 1406, 1451, 1452, 3819, 4025:
		return "the database refuses it: " + my.Message + ".", "Correct the value in the source, or decline the record."
	default:
		return fmt.Sprintf("%s (%d).", my.Message, my.Number), ""
	}
}
