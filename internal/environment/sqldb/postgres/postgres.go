package postgres

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/rows"
)

// Options say how a database is opened.
type Options struct {
	Password string // "" leaves it to PostgreSQL's own conventions (password file, environment variables, service names)
	ReadOnly bool
	TLSOff   bool // a password may go over a connection that is not proven to be the server's
	Around   environment.Surroundings
}

// parsed reads an address as the driver does.
func parsed(around environment.Surroundings, name, address string) (*pgx.ConnConfig, error) {
	config, err := pgx.ParseConfig(withConventions(around, address))
	if err != nil {
		return nil, &environment.Error{Environment: name,
			Message: "connect: is not an address of PostgreSQL, or names a file that cannot be read.",
			Mend:    "It looks like postgres://account@host:5432/database.", Cause: err}
	}
	return config, nil
}

// Where tells where an address leads.
func Where(around environment.Surroundings, name, address string) (environment.Where, error) {
	config, err := parsed(around, name, address)
	if err != nil {
		return environment.Where{}, err
	}
	out := environment.Where{Server: net.JoinHostPort(config.Host, fmt.Sprint(config.Port)), Account: config.User,
		Database: config.Database, Here: engine.IsHere(config.Host)}
	for _, other := range config.Fallbacks {
		out.Here = out.Here && engine.IsHere(other.Host)
	}
	if u, err := url.Parse(address); err == nil {
		for _, file := range []string{"sslrootcert", "sslcert", "sslkey", "passfile", "servicefile"} {
			if value := u.Query().Get(file); value != "" {
				out.Files = append(out.Files, value)
			}
		}
	}
	return out, nil
}

// proven makes the connection one that is proven to be the server's where a password goes
// to another machine.
func proven(name, address string, config *pgx.ConnConfig, o Options) (*pgx.ConnConfig, error) {
	if engine.IsHere(config.Host) || config.Password == "" || o.TLSOff {
		return config, nil
	}
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	query := u.Query()
	switch mode := cmp.Or(query.Get("sslmode"), o.Around.Get("PGSSLMODE")); mode {
	case "verify-full", "verify-ca":
		return config, nil
	case "":
		query.Set("sslmode", "verify-full")
		u.RawQuery = query.Encode()
		again, err := parsed(o.Around, name, u.String())
		if err == nil {
			again.Password = config.Password
		}
		return again, err
	default:
		return nil, engine.NotProven(name, config.Host,
			"Say sslmode=verify-full in connect:, with sslrootcert= where the server's certificate is not a public one")
	}
}

// Open opens a PostgreSQL database. The address is a postgres:// URL without a password.
func Open(ctx context.Context, name, address string, o Options) (environment.Environment, error) {
	config, err := parsed(o.Around, name, address)
	if err != nil {
		return nil, err
	}
	if o.Password != "" {
		config.Password = o.Password
	}
	if config, err = proven(name, address, config, o); err != nil {
		return nil, err
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = limit.Wait(ctx, engine.Patience)
	}
	d := dialect{host: net.JoinHostPort(config.Host, fmt.Sprint(config.Port)), database: config.Database, account: config.User,
		zone: new(string)}
	env, err := open(ctx, name, config.Copy(), d, o.ReadOnly)
	if !behindPooler(err) {
		return env, err
	}
	d.pooled = true
	return open(ctx, name, config, d, o.ReadOnly)
}

// forms are the settings that a session has. Everything is read and written as text in these
// forms, whatever the server's own settings are, so that nothing is rounded or shifted.
var forms = map[string]string{
	"DateStyle": "ISO, YMD", "IntervalStyle": "iso_8601", "extra_float_digits": "3", "bytea_output": "hex",
	// Rows that are hidden from the account would look as if they were not there.
	"row_security": "off",
}

// formsUnder gives them with how long a lock is waited for.
func formsUnder(ctx context.Context) map[string]string {
	out := maps.Clone(forms)
	out["lock_timeout"] = fmt.Sprint(limit.Wait(ctx, engine.Wait).Milliseconds())
	return out
}

// localForms sets them, and the zone, for one transaction: where a pooler stands between, that
// is all that a session's settings last.
func localForms(forms map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(forms)) {
		parts = append(parts, fmt.Sprintf("set_config('%s', '%s', true)", name, forms[name]))
	}
	return "SELECT " + strings.Join(append(parts, "set_config('TimeZone', 'UTC', true)"), ", ")
}

// errPooler says that another server connection answers than the one that was greeted.
var errPooler = errors.New("a pooler stands between")

// behindPooler reports whether a connection failed as it leads to a pooler: it refuses settings
// that it cannot keep, or hands its server connections round.
func behindPooler(err error) bool {
	var refused *pgconn.PgError
	return errors.Is(err, errPooler) || errors.As(err, &refused) && refused.Code == "08P01" &&
		strings.Contains(refused.Message, "startup parameter")
}

func open(ctx context.Context, name string, config *pgx.ConnConfig, d dialect, readOnly bool) (environment.Environment, error) {
	config.RuntimeParams["client_encoding"], config.RuntimeParams["application_name"] = "UTF8", "anagram"
	if d.pooled {
		// Nothing that is prepared in one transaction is there in the next.
		config.DefaultQueryExecMode, config.StatementCacheCapacity, config.DescriptionCacheCapacity = pgx.QueryExecModeDescribeExec, 0, 0
	} else {
		for setting, value := range formsUnder(ctx) {
			config.RuntimeParams[setting] = value
		}
	}
	return rows.Open(ctx, name, d, stdlib.OpenDB(*config, stdlib.OptionAfterConnect(func(ctx context.Context, conn *pgx.Conn) error {
		// The zone that the server gives its applications is asked before it is set aside.
		var process uint32
		if err := conn.QueryRow(ctx, "SELECT current_setting('TimeZone'), pg_backend_pid()",
			pgx.QueryExecModeSimpleProtocol).Scan(d.zone, &process); err != nil {
			return err
		}
		if process != conn.PgConn().PID() && !d.pooled {
			return errPooler
		}
		_, err := conn.Exec(ctx, "SET TIME ZONE 'UTC'")
		return err
	})), readOnly)
}

type dialect struct {
	host, database, account string
	zone                    *string
	pooled                  bool // a pooler stands between, and may hand each transaction to another connection
}

// Can says what the engine offers.
func (d dialect) Can() engine.Capabilities {
	return engine.Capabilities{SumOf: sumOf, Append: func(column, more string) string { return column + " || " + more },
		Conflict: conflict, Pooled: d.pooled, SlowTuples: true, OneAtATime: true, Savepoints: true, CopyOut: d.CopyOut,
		Cells: d.cells, Bulk: d.Bulk, Breaks: d.Breaks, Settle: settle, AfterInserts: d.afterInserts,
		Defer:  "SET CONSTRAINTS ALL DEFERRED",
		Same:   same,
		Script: frame}
}

func (dialect) Quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func (dialect) Mark(n int) string { return fmt.Sprintf("$%d", n) }

func (dialect) ForUpdate() string { return " FOR UPDATE" }

// Place quotes a table; one of another schema than the default has its schema before a dot.
func (d dialect) Place(place string) string {
	schema, table, ok := strings.Cut(place, ".")
	if at := strings.Index(place, `"`); at >= 0 && strings.HasSuffix(place, `"`) && at < len(place)-1 { // a dot within the name
		schema, table, ok = strings.TrimSuffix(place[:at], "."), place[at+1:len(place)-1], at > 0
		if !ok {
			return d.Quote(table)
		}
	}
	if ok {
		return d.Quote(schema) + "." + d.Quote(table)
	}
	return d.Quote(place)
}

func (d dialect) Select(c catalog.Column) string {
	if c.Kind == record.Bytes {
		return d.Quote(c.Name)
	}
	return d.Quote(c.Name) + "::text"
}

func (dialect) In(columns []string, n int) string { return engine.RowsIn(columns, n, "") }

func (dialect) BeginRead() []string {
	return []string{"BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", localForms(formsUnder(context.Background()))}
}

// lockNumber is the advisory lock that one import at a time holds: "Angm".
const lockNumber = 0x416e676d

// BeginWrite uses repeatable read: a record that somebody changes between reading it
// again and writing it makes the import fail instead of being overwritten.
func (dialect) BeginWrite(ctx context.Context, q engine.Queryer, _ bool) error {
	if _, err := q.ExecContext(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return err
	}
	var got, standby bool
	_, err := q.ExecContext(ctx, localForms(formsUnder(ctx)))
	if err == nil {
		err = engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&standby) }, "SELECT pg_is_in_recovery()")
	}
	if err == nil && standby {
		err = errStandby
	}
	if err == nil {
		err = engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&got) },
			fmt.Sprintf("SELECT pg_try_advisory_xact_lock(%d)", lockNumber))
	}
	if err == nil && !got {
		err = engine.ErrLocked
	}
	if err != nil {
		_, _ = q.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return err
}

func sumOf(column string) string { return "encode(sha256(" + column + "), 'hex')" }

// conflict reports whether somebody else changed the same records at the same time.
func conflict(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "40001" || pg.Code == "40P01") && !strings.Contains(pg.Message, "conflict with recovery")
}

// errStandby says that a database only takes over what another one does.
var errStandby = errors.New("it is a standby")

func (dialect) EndWrite(context.Context, engine.Queryer) {}

// settle runs deferred constraints and constraint triggers now instead of at the commit.
func settle(ctx context.Context, q engine.Queryer) error {
	_, err := q.ExecContext(ctx, "SET CONSTRAINTS ALL IMMEDIATE")
	return err
}

// BeforeInserts moves a sequence that lags behind the data to where it should be; an
// insert would otherwise meet a number that is taken.
func (d dialect) BeforeInserts(ctx context.Context, q engine.Queryer, place, id string) error {
	if id == "" {
		return nil
	}
	_, err := raiseSequence(ctx, d, q, place, id)
	return err // without the right to move it, the insert itself will say what is wrong
}

// afterInserts moves the counters of columns past the numbers that were given: the server
// does not see those that it did not give itself, and would give them again.
func (d dialect) afterInserts(ctx context.Context, q engine.Queryer, place string, columns []string) error {
	for _, column := range columns {
		refused, err := raiseSequence(ctx, d, q, place, column)
		if err != nil {
			return err
		}
		if refused != nil {
			return &engine.CounterError{Place: place, Column: column, Cause: refused}
		}
	}
	return nil
}

// raiseSequence moves the sequence of a column, if it has one, to the largest number there is.
// Refused is why the account may not.
func raiseSequence(ctx context.Context, d dialect, q engine.Queryer, place, column string) (refused, err error) {
	var sequence sql.NullString
	if err := engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&sequence) },
		"SELECT pg_get_serial_sequence($1, $2)", d.Place(place), column); err != nil || !sequence.Valid {
		return nil, err
	}
	var largest sql.NullInt64
	if err := engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&largest) },
		fmt.Sprintf("SELECT max(%s) FROM %s", d.Quote(column), d.Place(place))); err != nil || !largest.Valid {
		return nil, err
	}
	if _, err := q.ExecContext(ctx, "SAVEPOINT anagram_sequence"); err != nil {
		return nil, err
	}
	_, refused = q.ExecContext(ctx,
		fmt.Sprintf("SELECT setval('%s', $1::bigint) FROM %s WHERE last_value < $1::bigint OR last_value = $1::bigint AND NOT is_called", strings.ReplaceAll(sequence.String, "'", "''"), sequence.String), largest.Int64)
	if refused != nil {
		_, err = q.ExecContext(ctx, "ROLLBACK TO SAVEPOINT anagram_sequence")
		return refused, err
	}
	_, err = q.ExecContext(ctx, "RELEASE SAVEPOINT anagram_sequence")
	return nil, err
}

func (d dialect) About(ctx context.Context, q engine.Queryer) (environment.Description, error) {
	about := environment.Description{Numbers: true, Address: fmt.Sprintf("postgres://%s/%s", d.host, d.database)}
	var writable, readable, tables int
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		return rows.Scan(&about.Product, &about.Account, &about.Clock, &tables, &readable, &writable)
	}, `SELECT 'PostgreSQL ' || split_part(current_setting('server_version'), ' ', 1) || CASE WHEN pg_is_in_recovery() THEN ' (a standby)' ELSE '' END, current_user, clock_timestamp(), count(*),
		count(*) FILTER (WHERE has_table_privilege(c.oid, 'SELECT')),
			count(*) FILTER (WHERE NOT pg_is_in_recovery() AND has_table_privilege(c.oid,
			'INSERT') AND has_table_privilege(c.oid, 'UPDATE'))
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r',
			'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\_%'`)
	if d.pooled {
		about.Product += " through a pooler"
	}
	about.Rights = engine.RightsText(tables, readable, writable)
	about.Zone = engine.Zone(*d.zone)
	return about, err
}

// Breaks reports whether a value was refused as it breaks the rule of a domain.
func (dialect) Breaks(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23514"
}

func (dialect) Decode(stored any, kind record.Kind, c catalog.Column) (record.Value, error) {
	if text, ok := stored.(string); ok && c.Element != record.Null && kind == record.JSON {
		list, err := listed(text, c.Element)
		if err != nil {
			return record.Value{}, err
		}
		stored = list
	}
	return engine.DecodeText(stored, kind, c)
}

func (dialect) Encode(v record.Value, c catalog.Column) (any, error) {
	switch v.Kind() {
	case record.Null:
		return nil, nil
	case record.Bytes:
		return engine.ContentOf(v)
	case record.Boolean:
		if c.Kind != record.Boolean && c.Kind != record.Null { // kept as a number or a text
			return map[string]string{"true": "1", "false": "0"}[v.Text()], nil
		}
		return v.Text(), nil
	case record.Text:
		if strings.ContainsRune(v.Text(), 0) {
			return nil, errNUL
		}
		if c.Kind == record.Bytes {
			return engine.FromHex(v.Text())
		}
		return v.Text(), nil
	case record.JSON:
		if c.Element != record.Null {
			return array(v.Text(), c.Element)
		}
		return v.Text(), nil
	default:
		return v.Text(), nil
	}
}

var errNUL = errors.New("the text holds a NUL character, which PostgreSQL cannot keep")

// Decides leaves out types of their own (enumerations, networks), whose comparison with a
// text that is none of their values is an error.
func (dialect) Decides(c catalog.Column, v record.Value) bool {
	switch v.Kind() {
	case record.Text:
		word := strings.ToLower(c.Declared)
		return word == "text" || strings.HasPrefix(word, "character")
	case record.Integer:
		return engine.InRange(v, map[string]int{"smallint": 16, "integer": 32, "bigint": 64}[c.Declared])
	case record.Decimal:
		return strings.HasPrefix(c.Declared, "numeric")
	default:
		return true
	}
}

// Answered leaves out what the server says when it goes away.
func (dialect) Answered(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && !lost(pg.Code)
}

func (dialect) Refused(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && !lost(pg.Code) && pg.Code != "40001"
}

func lost(code string) bool {
	return strings.HasPrefix(code, "57P") || strings.HasPrefix(code, "08")
}

func (d dialect) Explain(err error) (message, mend string) {
	var counter *engine.CounterError
	if errors.As(err, &counter) {
		return fmt.Sprintf("the account %s may not move the counter of %s in %s, so the next number that is given there would be one that is taken.", d.account, counter.Column, counter.Place),
			"Ask for the right UPDATE on its sequence."
	}
	if errors.Is(err, engine.ErrLocked) {
		return fmt.Sprintf("another import is at work in %s.", d.database), "Wait until it has finished and try again."
	}
	if errors.Is(err, errStandby) {
		return fmt.Sprintf("%s is a standby, which only takes over what its primary does, so nothing can be written.", d.host),
			"Give the address of the primary."
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return explainServer(d, pg)
	}
	if late, ok := engine.Late(d.host, err); ok {
		return late, "Check address and network, and that this is a PostgreSQL server."
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) {
		return fmt.Sprintf("%s cannot be reached as %s.", d.host, d.account),
			"Check address, account and network; the reason given is: " + engine.Cause(err) + "."
	}
	if strings.Contains(err.Error(), "encode") { // the driver itself, before it asks the server
		return "a value cannot be sent: " + engine.Cause(err) + ".", "Say what the field holds with as: in the catalog."
	}
	return "the connection to " + d.host + " was lost: " + engine.Cause(err) + ".",
		"Check the server and try again; nothing is half-written."
}

// explainServer is Explain for what the server itself says.
func explainServer(d dialect, pg *pgconn.PgError) (message, mend string) {
	switch {
	case pg.Code == "28P01" || pg.Code == "28000":
		return fmt.Sprintf("%s refuses the account %s.", d.host, d.account), environment.MendPassword
	case pg.Code == "3D000":
		return fmt.Sprintf("%s has no database %q.", d.host, d.database), environment.MendAddress
	case pg.Code == "42501" && strings.Contains(pg.Message, "row-level security"):
		return fmt.Sprintf("row-level security hides rows from the account %s (table %s), so what is missing cannot be told from what is hidden.", d.account, cmp.Or(pg.TableName, named(pg.Message))),
			"Use an account that sees all rows, such as the owner of the table or one with BYPASSRLS."
	case pg.Code == "42501" && permission.MatchString(pg.Message):
		return fmt.Sprintf("the account %s may not do this: %s.", d.account, pg.Message), "Ask for the right, or use another account."
	case pg.Code == "55P03":
		return "somebody else is changing the same records.", "Wait until they have finished and try again."
	case strings.Contains(pg.Message, "conflict with recovery"):
		return d.host + " is a standby and broke off reading, as it had to take over what its primary did.",
			"Try again; if it comes often, raise max_standby_streaming_delay there, or turn hot_standby_feedback on."
	case pg.Code == "40001":
		return "somebody else changed the same records at the same time.", "Import again; what moved is then left out and named."
	case lost(pg.Code):
		return "the connection to " + d.host + " was lost, or the server ended it.",
			"Check the server and try again; nothing is half-written."
	case strings.HasPrefix(pg.Code, "22") || strings.HasPrefix(pg.Code, "23") || strings.HasPrefix(pg.Code, "P0") ||
		pg.Code == "428C9" || pg.Code == "44000":
		return refusal(pg), "Correct the value in the source, or decline the record."
	default:
		return trouble(pg), ""
	}
}
