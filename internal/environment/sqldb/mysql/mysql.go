package mysql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log"
	"math"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/rows"
)

// Options say how a database is opened.
type Options struct {
	Password string
	ReadOnly bool
	TLSOff   bool // a password may go over a connection that is not proven to be the server's
}

// parsed reads an address.
func parsed(name, address string) (*mysql.Config, error) {
	u, err := url.Parse(address)
	database := ""
	if err == nil {
		database = strings.TrimPrefix(u.Path, "/")
	}
	if err != nil || u.Host == "" || database == "" {
		return nil, &environment.Error{Environment: name, Message: "connect: is not an address of MariaDB or MySQL.",
			Mend: "It looks like mysql://account@host:3306/database."}
	}
	config := mysql.NewConfig()
	config.Net, config.Addr, config.DBName = "tcp", u.Host, database
	if u.Port() == "" {
		config.Addr += ":3306"
	}
	config.User = u.User.Username()
	config.TLSConfig = u.Query().Get("tls")
	return config, nil
}

func host(config *mysql.Config) string {
	host, _, err := net.SplitHostPort(config.Addr)
	if err != nil {
		return config.Addr
	}
	return host
}

// Where tells where an address leads.
func Where(name, address string) (environment.Where, error) {
	config, err := parsed(name, address)
	if err != nil {
		return environment.Where{}, err
	}
	return environment.Where{Server: config.Addr, Account: config.User, Database: config.DBName, Here: engine.IsHere(host(config))}, nil
}

// Open opens a MariaDB or MySQL database. The address is a mysql:// URL without a
// password: mysql://account@host:3306/database, with ?tls=true for an encrypted
// connection.
func Open(ctx context.Context, name, address string, o Options) (environment.Environment, error) {
	config, err := parsed(name, address)
	if err != nil {
		return nil, err
	}
	config.Passwd = o.Password
	if o.Password != "" && !o.TLSOff && !engine.IsHere(host(config)) {
		switch config.TLSConfig {
		case "":
			config.TLSConfig = "true"
		case "true":
		default:
			return nil, engine.NotProven(name, host(config), "Say tls=true in connect:")
		}
	}
	// Values go into statements on this side and come back as text, so that the server
	// never turns a number into a floating point one.
	config.InterpolateParams = true
	config.ClientFoundRows = true // a row that was right already counts as written
	config.Collation = "utf8mb4_bin"
	config.Logger = log.New(io.Discard, "", 0)
	config.Params = map[string]string{
		"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'",
		"innodb_lock_wait_timeout": fmt.Sprint(max(1, int(limit.Wait(ctx, engine.Wait)/time.Second))),
		"character_set_results":    "utf8mb4",
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, &environment.Error{Environment: name, Message: "connect: cannot be used.",
			Mend: "It looks like mysql://account@host:3306/database, with ?tls=true for an encrypted connection.", Cause: err}
	}
	return rows.Open(ctx, name, dialect{host: config.Addr, database: config.DBName, account: config.User},
		sql.OpenDB(patient{connector}), o.ReadOnly)
}

// patient waits only so long for a server that takes the connection and says nothing.
type patient struct{ driver.Connector }

// Connect gives a connection that the server let in.
func (p patient) Connect(ctx context.Context) (driver.Conn, error) {
	ctx, stop := context.WithTimeoutCause(ctx, limit.Wait(ctx, engine.Patience), context.DeadlineExceeded)
	defer stop()
	conn, err := p.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	// On a node of a cluster each reading waits for what the other nodes committed before. Where
	// there is no cluster it changes nothing, and where there is no such setting it is refused.
	if on, ok := conn.(driver.ExecerContext); ok {
		_, _ = on.ExecContext(ctx, "SET SESSION wsrep_sync_wait = 15", nil)
	}
	return conn, nil
}

type dialect struct{ host, database, account string }

// Can says what the engine offers.
func (d dialect) Can() engine.Capabilities {
	return engine.Capabilities{OneAtATime: true, SumOf: sumOf, Append: func(column, more string) string {
		return "concat(" + column +
			", " + more + ")"
	}, Conflict: conflict, Trial: d.Trial, Tidy: tidy, LongestStatement: longestStatement,
		Same: same,
		Script: engine.ScriptFrame{
			Begin: "SET NAMES utf8mb4;\nSET SESSION time_zone = '+00:00', SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION';\n" +
				"DROP TEMPORARY TABLE IF EXISTS anagram_script;\n" + engine.ScriptTable("TEMPORARY", "", "") + "\nBEGIN;",
			// A client that goes on after errors comes here as well.
			End: func(steps int) string {
				return fmt.Sprintf("SET @anagram_end = IF((SELECT n FROM anagram_script) = %d, 'COMMIT', 'DO 0');\nPREPARE anagram_end FROM @anagram_end;\nEXECUTE anagram_end;\nDEALLOCATE PREPARE anagram_end;\nROLLBACK;\nDROP TEMPORARY TABLE anagram_script;", steps)
			},
			From: " FROM DUAL"}}
}

func sumOf(column string) string { return "lower(sha2(" + column + ", 256))" }

// conflict reports whether somebody else changed the same records at the same time: the server
// took back all of the transaction. On a cluster that shows at the commit only.
func conflict(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && my.Number == 1213
}

// mostSent is what the driver sends at most.
const mostSent = 64 << 20

func longestStatement(ctx context.Context, q engine.Queryer) (n int, err error) {
	err = engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&n) }, "SELECT @@max_allowed_packet")
	return min(n, mostSent), err
}

func (dialect) Quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func (dialect) Mark(int) string { return "?" }

func (dialect) ForUpdate() string { return " FOR UPDATE" }

// Place quotes a table; a dot is part of its name, as places are those of one database.
func (d dialect) Place(place string) string { return d.Quote(place) }

// Select brings what the text protocol would shorten or show as bytes to a full text.
func (d dialect) Select(c catalog.Column) string {
	switch {
	case strings.HasPrefix(c.Declared, "float"):
		return d.Quote(c.Name) + " + 0e0"
	case strings.HasPrefix(c.Declared, "bit"):
		return d.Quote(c.Name) + " + 0"
	default:
		return d.Quote(c.Name)
	}
}

func (dialect) In(columns []string, n int) string { return engine.RowsIn(columns, n, "") }

func (dialect) BeginRead() []string {
	return []string{"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"}
}

func (d dialect) lock() string { return "anagram-" + d.database }

func (d dialect) BeginWrite(ctx context.Context, q engine.Queryer, transaction bool) error {
	var got sql.NullInt64
	if err := engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&got) }, "SELECT GET_LOCK(?, 0)", d.lock()); err != nil {
		return err
	}
	if got.Int64 != 1 {
		return engine.ErrLocked
	}
	if !transaction {
		return nil
	}
	if _, err := q.ExecContext(ctx, "START TRANSACTION"); err != nil {
		d.EndWrite(context.WithoutCancel(ctx), q)
		return err
	}
	return nil
}

func (d dialect) EndWrite(ctx context.Context, q engine.Queryer) {
	_ = engine.EachRow(ctx, q, func(*sql.Rows) error { return nil }, "SELECT RELEASE_LOCK(?)", d.lock())
}

func (dialect) BeforeInserts(context.Context, engine.Queryer, string, string) error { return nil }

func (d dialect) About(ctx context.Context, q engine.Queryer) (environment.Description, error) {
	about := environment.Description{Numbers: true, Address: fmt.Sprintf("mysql://%s/%s", d.host, d.database)}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
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
	// What the server gives its applications; this session has its own.
	_ = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var global, system sql.NullString
		err := rows.Scan(&global, &system)
		if global.String == "SYSTEM" {
			global = system
		}
		about.Zone = engine.Zone(global.String)
		return err
	}, "SELECT @@global.time_zone, @@system_time_zone")
	// Nodes of a cluster do not share the lock against a second import: see Conflict.
	_ = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var name string
		var nodes int
		err := rows.Scan(&name, &nodes)
		if nodes > 0 {
			about.Product += fmt.Sprintf(" (a node of a cluster of %d)", nodes)
		}
		return err
	}, "SHOW STATUS LIKE 'wsrep_cluster_size'")
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
	about.Rights = engine.RightsText(len(tables), readable, writable)
	return about, err
}

// Trial gives values the types of columns by putting them under an empty selection of
// these: a cast does not know all types.
func (d dialect) Trial(place string, columns []catalog.Column, rows int) string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c.Name)
	}
	out := []string{fmt.Sprintf("SELECT -1 AS anagram_row, %s FROM %s WHERE FALSE", strings.Join(names, ", "), d.Place(place))}
	for n := range rows {
		out = append(out, fmt.Sprintf("SELECT %d, %s", n, engine.Marks(len(columns))))
	}
	return strings.Join(out, " UNION ALL ")
}

// tidy makes texts of what the driver delivers as bytes, which is nearly everything.
func tidy(stored any) any {
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
func (dialect) Decode(stored any, kind record.Kind, c catalog.Column) (record.Value, error) {
	if text, ok := stored.(string); ok && c.Kind == record.Bytes {
		stored = []byte(text)
	}
	if text, ok := stored.(string); ok && kind == record.Timestamp && c.Kind == record.Timestamp {
		stored = text + "Z"
	}
	if strings.HasPrefix(c.Declared, "float") {
		stored = shortest(stored)
	}
	if f, ok := stored.(float64); ok {
		stored = strconv.FormatFloat(f, 'g', -1, 64)
	}
	if text, ok := stored.(string); ok && len(c.Limits.AnyOf) > 0 {
		stored = ordered(text)
	}
	return engine.DecodeText(stored, kind, c)
}

// shortest writes a number of four bytes with the digits that tell it: what it has beyond
// comes from writing it with the precision of eight.
func shortest(stored any) any {
	number, err := strconv.ParseFloat(engine.StoredText(stored), 64)
	if err != nil || math.Abs(number) > math.MaxFloat32 {
		return stored
	}
	return strconv.FormatFloat(number, 'f', -1, 32)
}

// ordered lists the members of a set by their bytes: the server has them in the order of
// the column's declaration, which differs between databases and means nothing.
func ordered(members string) string {
	list := strings.Split(members, ",")
	slices.Sort(list)
	return strings.Join(list, ",")
}

// declaredOrder gives the members of a set in the order of the column's declaration, in
// which the server compares them. One that is not declared is last, and refused there.
func declaredOrder(members string, declared []string) string {
	list := strings.Split(members, ",")
	slices.SortStableFunc(list, func(a, b string) int {
		i, j := slices.Index(declared, a), slices.Index(declared, b)
		if i < 0 || j < 0 {
			return j - i
		}
		return i - j
	})
	return strings.Join(list, ",")
}

func (dialect) Encode(v record.Value, c catalog.Column) (any, error) {
	switch v.Kind() {
	case record.Null:
		return nil, nil
	case record.Bytes:
		return engine.ContentOf(v)
	case record.Text:
		if c.Kind == record.Bytes {
			return engine.FromHex(v.Text())
		}
		if len(c.Limits.AnyOf) > 0 {
			return declaredOrder(v.Text(), c.Limits.AnyOf), nil
		}
		return v.Text(), nil
	case record.Integer:
		if i, err := strconv.ParseInt(v.Text(), 10, 64); err == nil {
			return i, nil
		}
		if i, err := strconv.ParseUint(v.Text(), 10, 64); err == nil {
			return i, nil // a text would be taken for bits as they stand
		}
		return v.Text(), nil
	case record.Boolean:
		return engine.OneOrZero(v), nil
	case record.LocalTimestamp:
		return engine.Spaced(v), nil
	case record.Timestamp:
		if c.Kind == record.Text {
			return v.Text(), nil
		}
		return strings.TrimSuffix(engine.Spaced(v), "Z"), nil
	default:
		return v.Text(), nil
	}
}

// Literal writes a value as MySQL reads it whatever its modes are: what a backslash would do
// depends on them, and what a client does with signs that cannot be seen on the client.
func (dialect) Literal(stored any) string {
	if text, ok := stored.(string); ok && !engine.Plain(text) {
		return "_utf8mb4 X'" + hex.EncodeToString([]byte(text)) + "'"
	}
	return engine.PlainLiteral(stored)
}

// same compares texts by their bytes in UTF-8, and by the column's collation, which an index has.
func same(column string, c catalog.Column, stored any, literal string) string {
	text, ok := stored.(string)
	if !ok || c.Kind != record.Text || !c.Loose || !strings.Contains(c.Declared, "char") && !strings.Contains(c.Declared, "text") &&
		!strings.HasPrefix(c.Declared, "enum") && !strings.HasPrefix(c.Declared, "set") {
		return column + " = " + literal
	}
	return fmt.Sprintf("%[1]s = %[2]s AND CAST(CONVERT(%[1]s USING utf8mb4) AS BINARY) = X'%[3]s'", column, literal, hex.EncodeToString([]byte(text)))
}

// Decides leaves out floating point columns, which do not compare exactly, and texts
// whose comparison depends on more than a collation.
func (dialect) Decides(c catalog.Column, v record.Value) bool {
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
func (dialect) Answered(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && !lost(my.Number)
}

func (dialect) Refused(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && !lost(my.Number) && my.Number != 1205 && my.Number != 1213
}

func lost(number uint16) bool {
	return number == 1927 || number == 2006 || number == 2013 || number == 1053
}

func (d dialect) Explain(err error) (message, mend string) {
	if errors.Is(err, engine.ErrLocked) {
		return fmt.Sprintf("another import is at work in %s.", d.database), "Wait until it has finished and try again."
	}
	var my *mysql.MySQLError
	if !errors.As(err, &my) {
		if errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return "the connection to " + d.host + " was lost.", "Check the server and try again; nothing is half-written."
		}
		if late, ok := engine.Late(d.host, err); ok {
			return late, "Check address and network, and that this is a MariaDB or MySQL server."
		}
		if errors.Is(err, mysql.ErrPktSync) || errors.Is(err, mysql.ErrPktSyncMul) || errors.Is(err, mysql.ErrMalformPkt) ||
			errors.Is(err, mysql.ErrOldProtocol) {
			return d.host + " answers as no MariaDB or MySQL server does.", "Check the address."
		}
		return fmt.Sprintf("%s cannot be reached: %s.", d.host, engine.Cause(err)), "Check address and network."
	}
	if lost(my.Number) {
		return "the connection to " + d.host + " was lost, or the server ended it.",
			"Check the server and try again; nothing is half-written."
	}
	switch my.Number {
	case 1044:
		return fmt.Sprintf("the account %s may not use the database %q.", d.account, d.database), environment.MendUse
	case 1045, 1698:
		return fmt.Sprintf("%s refuses the account %s.", d.host, d.account), environment.MendAccount
	case 1049:
		return fmt.Sprintf("%s has no database %q.", d.host, d.database), environment.MendAddress
	case 1142, 1143, 1227, 1370: // the command, the account, and the table or column
		return fmt.Sprintf("the account %s may not do this: %s.", d.account, my.Message), "Ask for the right, or use another account."
	case 1213:
		return "somebody else changed the same records at the same time.", "Match again to see them as they are now."
	case 1205:
		return "somebody else is changing the same records.", "Wait until they have finished and try again."
	case 1047:
		return d.host + " is a node of a cluster that is not ready, or was cut off from the others.",
			"Wait until it has joined them again, or name another node in connect:."
	}
	if text, ok := refusal(my); ok {
		return text, "Correct the value in the source, or decline the record."
	}
	return trouble(my), ""
}
