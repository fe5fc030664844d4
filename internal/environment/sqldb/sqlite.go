package sqldb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strconv"
	"strings"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/sqlitefile"
)

// waitMilliseconds is how long a locked SQLite file is waited for.
const waitMilliseconds = 3000

// OpenSQLite opens an SQLite file that exists. For reading only, the file cannot be
// changed through the connection.
func OpenSQLite(ctx context.Context, name, path string, readOnly bool) (environment.Environment, error) {
	return openSQLite(ctx, name, sqliteDialect{path: path, readOnly: readOnly})
}

// OpenTables opens an SQLite file that stands for something without types and without
// ids of its own, such as a folder of files: every new record gets the largest id plus
// one where the catalog names an id.
func OpenTables(ctx context.Context, name, path string, readOnly bool) (environment.Environment, error) {
	return openSQLite(ctx, name, sqliteDialect{path: path, readOnly: readOnly, plain: true})
}

func openSQLite(ctx context.Context, name string, d sqliteDialect) (environment.Environment, error) {
	path, readOnly := d.path, d.readOnly
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("there is no file %s.", path), Mend: "Correct connect: of this environment in anagram.yaml.", Cause: err}
	case err != nil:
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("%s cannot be reached: %v.", path, errors.Unwrap(err)), Cause: err}
	case info.IsDir():
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("%s is a folder, not an SQLite database.", path), Mend: "Correct connect: of this environment in anagram.yaml."}
	}
	db, err := sqlitefile.Open(path, sqlitefile.Options{ReadOnly: readOnly, Wait: waitMilliseconds * time.Millisecond, Pragmas: []string{"foreign_keys(1)"}})
	if err != nil {
		return nil, err
	}
	return open(ctx, name, d, db, readOnly)
}

type sqliteDialect struct {
	path     string
	readOnly bool
	plain    bool // see OpenTables
}

// MakesIDs reports whether the engine gives ids to new records.
func (d sqliteDialect) MakesIDs() bool { return !d.plain }

func (sqliteDialect) Quote(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func (d sqliteDialect) Place(place string) string { return d.Quote(place) }
func (sqliteDialect) Mark(int) string             { return "?" }

// Select puts a plus before the column: the value stays as it is, but the driver no
// longer sees the declared type and does not turn texts into times.
func (d sqliteDialect) Select(c catalog.Column) string { return "+" + d.Quote(c.Name) }

func (sqliteDialect) In(columns []string, n int) string { return rowsIn(columns, n, "VALUES ") }
func (sqliteDialect) ForUpdate() string                 { return "" }
func (sqliteDialect) OneAtATime() bool                  { return false }
func (sqliteDialect) Savepoints() bool                  { return false }

func (sqliteDialect) BeginRead() []string {
	return []string{"BEGIN", "SELECT count(*) FROM sqlite_schema"}
}

// BeginWrite takes SQLite's own lock: only one connection may write at a time.
func (sqliteDialect) BeginWrite(ctx context.Context, q Queryer) error {
	_, err := q.ExecContext(ctx, "BEGIN IMMEDIATE")
	return err
}

func (sqliteDialect) EndWrite(context.Context, Queryer) {}

func (sqliteDialect) BeforeInserts(context.Context, Queryer, string, string) error { return nil }

func (d sqliteDialect) About(ctx context.Context, q Queryer) (environment.Description, error) {
	about := environment.Description{Address: "sqlite:" + d.path, Rights: "read and write"}
	if d.readOnly {
		about.Rights = "read"
	}
	err := eachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&about.Product) }, "SELECT 'SQLite ' || sqlite_version()")
	return about, err
}

func (d sqliteDialect) Describe(ctx context.Context, q Queryer) (map[string]catalog.Place, error) {
	places := map[string]catalog.Place{}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var name, kind string
		err := rows.Scan(&name, &kind)
		places[name] = catalog.Place{Name: name, ReadOnly: kind == "view"}
		return err
	}, `SELECT name, type FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\_%' ESCAPE '\'`)
	if err != nil {
		return nil, err
	}
	// Rights to an SQLite database are those to its file.
	f, openErr := os.OpenFile(d.path, os.O_RDWR, 0)
	writable := openErr == nil
	if writable {
		_ = f.Close()
	}
	for name, place := range places {
		if err := d.describeColumns(ctx, q, &place); err != nil {
			return nil, err
		}
		if err := d.describeKeys(ctx, q, &place); err != nil {
			return nil, err
		}
		place.CannotInsert, place.CannotUpdate = !writable, !writable
		places[name] = place
		err := addForeign(ctx, q, places, `SELECT ?1, id, "table", "from", "to" FROM pragma_foreign_key_list(?1) WHERE "to" IS NOT NULL ORDER BY id, seq`, name)
		if err != nil {
			return nil, err
		}
	}
	err = eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, statement string
		err := rows.Scan(&place, &statement)
		for _, rule := range checksIn(statement) {
			addRule(places, place, rule)
		}
		return err
	}, "SELECT name, sql FROM sqlite_schema WHERE type = 'table' AND sql LIKE '%CHECK%' ORDER BY 1")
	if err != nil {
		return nil, err
	}
	return places, addTriggers(ctx, q, places, `SELECT tbl_name, sql FROM sqlite_schema WHERE type = 'trigger' AND sql LIKE '%UPDATE%' || tbl_name || '%SET%' ORDER BY 1, name`, setColumn)
}

func (d sqliteDialect) describeColumns(ctx context.Context, q Queryer, place *catalog.Place) error {
	foreign := map[string]foreignColumn{}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var from string
		var to foreignColumn
		var columns int
		err := rows.Scan(&from, &to.place, &to.column, &to.follows, &columns)
		if columns == 1 {
			foreign[from] = to
		}
		return err
	}, `SELECT "from", "table", ifnull("to", ''), on_update = 'CASCADE', count(*) OVER (PARTITION BY id) FROM pragma_foreign_key_list(?)`, place.Name)
	if err != nil {
		return err
	}
	rowid := true
	err = eachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&rowid) }, "SELECT NOT wr FROM pragma_table_list(?)", place.Name)
	if err != nil {
		return err
	}
	return eachRow(ctx, q, func(rows *sql.Rows) error {
		var c catalog.Column
		var hidden, pk, keys int
		err := rows.Scan(&c.Name, &c.Declared, &c.Required, &c.Default, &hidden, &pk, &keys)
		c.Kind = sqliteKind(c.Declared)
		c.Derived = hidden >= 2
		c.RefersTo, c.RefersColumn, c.Follows = foreign[c.Name].place, foreign[c.Name].column, foreign[c.Name].follows
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
func (d sqliteDialect) describeKeys(ctx context.Context, q Queryer, place *catalog.Place) error {
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var name string
		err := rows.Scan(&name)
		place.Primary = append(place.Primary, name)
		return err
	}, "SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", place.Name)
	if err != nil {
		return err
	}
	u := uniques{}
	err = eachRow(ctx, q, func(rows *sql.Rows) error {
		var index string
		var column sql.NullString
		err := rows.Scan(&index, &column)
		u.add(index, column)
		return err
	}, `SELECT l.name, i.name FROM pragma_index_list(?) l JOIN pragma_index_info(l.name) i WHERE l."unique" AND NOT l.partial AND l.origin <> 'pk' ORDER BY l.seq, i.seqno`, place.Name)
	place.Unique = u.lists()
	return err
}

// uniques collects the columns of unique indexes in the order in which they are given.
type uniques struct {
	order   []string
	columns map[string][]string
	odd     map[string]bool // on an expression
}

func (u *uniques) add(index string, column sql.NullString) {
	if u.columns == nil {
		u.columns, u.odd = map[string][]string{}, map[string]bool{}
	}
	if _, ok := u.columns[index]; !ok {
		u.order = append(u.order, index)
	}
	u.columns[index] = append(u.columns[index], column.String)
	u.odd[index] = u.odd[index] || !column.Valid
}

func (u *uniques) lists() [][]string {
	var out [][]string
	for _, index := range u.order {
		if !u.odd[index] {
			out = append(out, u.columns[index])
		}
	}
	return out
}

// sqliteKind guesses what a declared type is meant to hold; SQLite itself only knows
// affinities (https://sqlite.org/datatype3.html), so the word counts.
func sqliteKind(declared string) record.Kind {
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

// Decode goes by what is stored, as SQLite lets a column hold anything; what does
// not fit the kind is an error.
func (sqliteDialect) Decode(stored any, kind record.Kind) (record.Value, error) {
	switch v := stored.(type) {
	case nil:
		return record.NullValue(), nil
	case int64:
		switch kind {
		case record.Integer:
			return record.IntegerValue(v), nil
		case record.Decimal:
			return record.Parse(kind, strconv.FormatInt(v, 10))
		case record.Boolean:
			if v == 0 || v == 1 {
				return record.BooleanValue(v == 1), nil
			}
		}
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return record.Value{}, fmt.Errorf("it holds %v, which is no decimal number", v)
		}
		if kind == record.Decimal || kind == record.Integer {
			return record.Parse(kind, strconv.FormatFloat(v, 'g', -1, 64))
		}
	case string:
		if kind == record.Boolean && (v == "0" || v == "1") {
			return record.BooleanValue(v == "1"), nil
		}
		if kind != record.Bytes {
			return record.Parse(kind, v)
		}
	case []byte:
		if kind == record.Bytes {
			return record.BytesValue(v), nil
		}
	}
	return record.Value{}, fmt.Errorf("it holds %s, which cannot be read as %s. Say what the field holds with as: in the catalog, or correct the value", describeStored(stored), kind)
}

func describeStored(stored any) string {
	switch v := stored.(type) {
	case []byte:
		return fmt.Sprintf("%d bytes", len(v))
	case string:
		if len(v) > 40 {
			return fmt.Sprintf("a text of %d bytes", len(v))
		}
		return fmt.Sprintf("the text %q", v)
	default:
		return fmt.Sprintf("the number %v", v)
	}
}

// Encode gives the stored form: booleans as 0 and 1, times without zone with a space
// as SQLite's own functions write them.
func (sqliteDialect) Encode(v record.Value, _ catalog.Column) (any, error) {
	switch v.Kind() {
	case record.Null:
		return nil, nil
	case record.Integer:
		i, err := strconv.ParseInt(v.Text(), 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%s is outside the 64 bit integers that SQLite holds", v.Text())
		}
		return i, nil
	case record.Boolean:
		return oneOrZero(v), nil
	case record.LocalTimestamp:
		return spaced(v), nil
	case record.Bytes:
		return contentOf(v)
	default:
		return v.Text(), nil
	}
}

// oneOrZero is a boolean in engines that keep it as a number.
func oneOrZero(v record.Value) int64 {
	if v.Text() == "true" {
		return 1
	}
	return 0
}

// spaced writes a timestamp with a space between date and time, as SQL does.
func spaced(v record.Value) string { return strings.Replace(v.Text(), "T", " ", 1) }

// contentOf reads the bytes of a value, never nil.
func contentOf(v record.Value) ([]byte, error) {
	if v.Content() == nil {
		return nil, fmt.Errorf("the bytes with SHA-256 %s are not at hand", v.Text())
	}
	in, err := v.Content().Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(in)
	return append([]byte{}, data...), err
}

// Literal writes a value as SQLite reads it.
func (sqliteDialect) Literal(stored any) string { return plainLiteral(stored) }

// Decides trusts only texts and whole numbers: a column may hold all else in several
// forms.
func (sqliteDialect) Decides(_ catalog.Column, v record.Value) bool {
	return v.Kind() == record.Text || v.Kind() == record.Integer
}

// Answered leaves out errors of the disk.
func (sqliteDialect) Answered(err error) bool {
	var sqliteErr *sqlite.Error
	return errors.As(err, &sqliteErr) && sqliteErr.Code()&0xFF != lib.SQLITE_IOERR
}

func (sqliteDialect) Refused(err error) bool {
	var sqliteErr *sqlite.Error
	if !errors.As(err, &sqliteErr) {
		return false
	}
	code := sqliteErr.Code() & 0xFF
	return code == lib.SQLITE_CONSTRAINT || code == lib.SQLITE_ERROR || code == lib.SQLITE_MISMATCH || code == lib.SQLITE_TOOBIG
}

func (d sqliteDialect) Explain(err error) (message, mend string) {
	var sqliteErr *sqlite.Error
	if !errors.As(err, &sqliteErr) {
		return err.Error() + ".", ""
	}
	switch sqliteErr.Code() & 0xFF {
	case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
		return fmt.Sprintf("%s is locked by another program.", d.path), "Wait until that program has finished, or close it, and try again."
	case lib.SQLITE_NOTADB:
		return fmt.Sprintf("%s is not an SQLite database.", d.path), "Correct connect: of this environment in anagram.yaml."
	case lib.SQLITE_CORRUPT:
		return fmt.Sprintf("%s is damaged: %v.", d.path, sqliteErr), "Bring it back from a backup."
	case lib.SQLITE_READONLY, lib.SQLITE_PERM, lib.SQLITE_CANTOPEN:
		return fmt.Sprintf("%s may not be opened or written by this account.", d.path), "Check the rights of the file and of its folder."
	case lib.SQLITE_FULL:
		return fmt.Sprintf("the disk of %s is full.", d.path), "Make room and try again."
	case lib.SQLITE_CONSTRAINT:
		text := sqliteErr.Error()
		text = strings.TrimPrefix(text, "constraint failed: ")
		if i := strings.LastIndex(text, " ("); i > 0 {
			text = text[:i]
		}
		return "the database refuses it: " + text + ".", "Correct the value in the source, or decline the record."
	default:
		return err.Error() + ".", ""
	}
}
