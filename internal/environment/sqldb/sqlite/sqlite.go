package sqlite

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"os"
	"strconv"
	"strings"
	"unicode"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/rows"
	"anagram/internal/files/sqlitefile"
)

// Open opens an SQLite file that exists. For reading only, the file cannot be
// changed through the connection.
func Open(ctx context.Context, name, path string, readOnly bool) (environment.Environment, error) {
	return open(ctx, name, dialect{path: path, readOnly: readOnly})
}

// OpenTables opens an SQLite file that stands for something without types and without
// ids of its own, such as a folder of files: every new record gets the largest id plus
// one where the catalog names an id.
func OpenTables(ctx context.Context, name, path string, readOnly bool) (environment.Environment, error) {
	return open(ctx, name, dialect{path: path, readOnly: readOnly, plain: true})
}

// Dialect is that of a file in which something else is kept, described by who keeps it there.
func Dialect(path string) engine.Dialect { return dialect{path: path} }

func open(ctx context.Context, name string, d dialect) (environment.Environment, error) {
	path, readOnly := d.path, d.readOnly
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("there is no file %s.", path),
			Mend: environment.MendAddress, Cause: err}
	case err != nil:
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("%s cannot be reached: %v.", path, errors.Unwrap(err)),
			Cause: err}
	case info.IsDir():
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("%s is a folder, not an SQLite database.", path),
			Mend: environment.MendAddress}
	}
	db, err := sqlitefile.Open(path, sqlitefile.Options{ReadOnly: readOnly, Wait: limit.Wait(ctx, engine.Wait),
		Pragmas: []string{"foreign_keys(1)"}})
	if err != nil {
		return nil, err
	}
	return rows.Open(ctx, name, d, db, readOnly)
}

type dialect struct {
	path     string
	readOnly bool
	plain    bool // see OpenTables
}

// Can says what the engine offers.
func (d dialect) Can() engine.Capabilities {
	// A table may say ON CONFLICT REPLACE, which removes what is in the way without a word.
	return engine.Capabilities{NoIDs: d.plain, WordsOnly: true, Aside: aside, Insert: "INSERT OR ABORT", Update: "UPDATE OR ABORT",
		Broken: broken, Defer: "PRAGMA defer_foreign_keys = ON",
		Same: same,
		Script: engine.ScriptFrame{
			// What a step refuses takes all back, and the table with it, so that nothing after it
			// finds where to go on, whatever the client does about errors.
			Begin: "BEGIN;\n" + engine.ScriptTable("TEMP", " ON CONFLICT ROLLBACK", ""),
			End: func(steps int) string {
				return fmt.Sprintf("UPDATE anagram_script SET %s = CASE WHEN n = %d THEN 1 END;\nDROP TABLE temp.anagram_script;\nCOMMIT;", engine.NotAsWritten, steps)
			}}}
}

// aside opens a database in memory, which can reach nothing.
func aside(context.Context) (*sql.DB, error) { return sqlitefile.Memory(), nil }

func (dialect) Quote(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func (d dialect) Place(place string) string { return d.Quote(place) }

func (dialect) Mark(int) string { return "?" }

// Select puts a plus before the column: the value stays as it is, but the driver no
// longer sees the declared type and does not turn texts into times.
func (d dialect) Select(c catalog.Column) string { return "+" + d.Quote(c.Name) }

func (dialect) In(columns []string, n int) string { return engine.RowsIn(columns, n, "VALUES ") }

func (dialect) ForUpdate() string { return "" }

func (dialect) BeginRead() []string {
	return []string{"BEGIN", "SELECT count(*) FROM sqlite_schema"}
}

// BeginWrite takes SQLite's own lock: only one connection may write at a time.
func (dialect) BeginWrite(ctx context.Context, q engine.Queryer, _ bool) error {
	_, err := q.ExecContext(ctx, "BEGIN IMMEDIATE")
	return err
}

func (dialect) EndWrite(context.Context, engine.Queryer) {}

// broken finds the rows whose deferred foreign keys do not hold: SQLite cannot be made to
// check them before the commit, so they are looked up. Others hold at all times.
func broken(ctx context.Context, q engine.Queryer) (map[string]string, error) {
	var tables []string
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error {
		var name string
		err := rows.Scan(&name)
		tables = append(tables, name)
		return err
	}, "SELECT name FROM sqlite_schema WHERE type = 'table' AND sql LIKE '%DEFERRED%' ORDER BY 1")
	out := map[string]string{}
	for _, table := range tables {
		if err != nil {
			break
		}
		err = engine.EachRow(ctx, q, func(rows *sql.Rows) error {
			var row, key, to string
			err := rows.Scan(&row, &to, &key)
			out[strings.Join([]string{table, row, to, key}, "\x00")] = fmt.Sprintf("a row of %s refers to one that is not in %s", table, to)
			return err
		}, `SELECT ifnull(rowid, ''), "parent", fkid FROM pragma_foreign_key_check(?)`, table)
	}
	return out, err
}

func (dialect) BeforeInserts(context.Context, engine.Queryer, string, string) error { return nil }

func (d dialect) About(ctx context.Context, q engine.Queryer) (environment.Description, error) {
	about := environment.Description{Address: "sqlite:" + d.path, Rights: "read and write"}
	if d.readOnly {
		about.Rights = "read"
	}
	err := engine.EachRow(ctx, q, func(rows *sql.Rows) error { return rows.Scan(&about.Product) }, "SELECT 'SQLite ' || sqlite_version()")
	return about, err
}

// Decode goes by what is stored, as SQLite lets a column hold anything; what does
// not fit the kind is an error.
func (dialect) Decode(stored any, kind record.Kind, c catalog.Column) (record.Value, error) {
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
		if kind == record.Decimal || kind == record.Integer {
			return decodeFloat(v, kind)
		}
	case string:
		if kind != record.Bytes && (kind != record.Text || c.Kind != record.Bytes) {
			return decodeWord(v, kind)
		}
	case []byte:
		if kind == record.Bytes || kind == record.Text && c.Kind == record.Bytes {
			return engine.DecodeText(v, kind, c)
		}
	}
	return record.Value{},
		fmt.Errorf("it holds %s, which cannot be read as %s. Say what the field holds with as: in the catalog, or correct the value", engine.DescribeStored(stored), kind)
}

func decodeWord(v string, kind record.Kind) (record.Value, error) {
	if kind == record.Boolean && (v == "0" || v == "1") {
		return record.BooleanValue(v == "1"), nil
	}
	return record.Parse(kind, v)
}

func decodeFloat(v float64, kind record.Kind) (record.Value, error) {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return record.Value{}, fmt.Errorf("it holds %v, which is no decimal number", v)
	}
	return record.Parse(kind, strconv.FormatFloat(v, 'g', -1, 64))
}

// Encode gives the stored form: booleans as 0 and 1, times without zone with a space
// as SQLite's own functions write them.
func (dialect) Encode(v record.Value, c catalog.Column) (any, error) {
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
		return engine.OneOrZero(v), nil
	case record.LocalTimestamp:
		return engine.Spaced(v), nil
	case record.Bytes:
		return engine.ContentOf(v)
	case record.Text:
		if c.Kind == record.Bytes {
			return engine.FromHex(v.Text())
		}
		return v.Text(), nil
	default:
		return v.Text(), nil
	}
}

// Literal writes a value as SQLite reads it.
func (dialect) Literal(stored any) string {
	text, ok := stored.(string)
	if ok && !engine.Plain(text) && (strings.ContainsFunc(text, unicode.IsControl) || strings.ContainsRune(text, '\ufeff')) {
		return "CAST(X'" + hex.EncodeToString([]byte(text)) + "' AS TEXT)"
	}
	return engine.PlainLiteral(stored)
}

// same compares texts byte by byte, and by the column's own collation where an index has that.
func same(column string, c catalog.Column, stored any, literal string) string {
	switch _, ok := stored.(string); {
	case !ok:
		return column + " = " + literal
	case !c.Loose:
		return column + " = " + literal + " COLLATE BINARY"
	}
	return fmt.Sprintf("%[1]s = %[2]s AND %[1]s = %[2]s COLLATE BINARY", column, literal)
}

// Decides trusts only texts and whole numbers: a column may hold all else in several
// forms.
func (dialect) Decides(_ catalog.Column, v record.Value) bool {
	return v.Kind() == record.Text || v.Kind() == record.Integer
}

// Answered leaves out errors of the disk.
func (dialect) Answered(err error) bool {
	var sqliteErr *sqlite.Error
	return errors.As(err, &sqliteErr) && sqliteErr.Code()&0xFF != lib.SQLITE_IOERR
}

func (dialect) Refused(err error) bool {
	var sqliteErr *sqlite.Error
	if !errors.As(err, &sqliteErr) {
		return false
	}
	code := sqliteErr.Code() & 0xFF
	return code == lib.SQLITE_CONSTRAINT || code == lib.SQLITE_ERROR || code == lib.SQLITE_MISMATCH || code == lib.SQLITE_TOOBIG
}

func (d dialect) Explain(err error) (message, mend string) {
	var sqliteErr *sqlite.Error
	if !errors.As(err, &sqliteErr) {
		return err.Error() + ".", ""
	}
	switch sqliteErr.Code() & 0xFF {
	case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
		return fmt.Sprintf("%s is locked by another program.", d.path), "Wait until that program has finished, or close it, and try again."
	case lib.SQLITE_NOTADB:
		return fmt.Sprintf("%s is not an SQLite database.", d.path), environment.MendAddress
	case lib.SQLITE_CORRUPT:
		if !d.damaged() {
			return fmt.Sprintf("%s could not be read as at one moment: another program writes to it without keeping to SQLite's locks. The file itself is sound.", d.path), "Wait until that program has finished, or close it, and try again."
		}
		return fmt.Sprintf("%s is damaged: %v.", d.path, sqliteErr), "Bring it back from a backup."
	case lib.SQLITE_READONLY, lib.SQLITE_PERM, lib.SQLITE_CANTOPEN:
		return fmt.Sprintf("%s may not be opened or written by this account.", d.path), "Check the rights of the file and of its folder."
	case lib.SQLITE_FULL:
		return fmt.Sprintf("the disk of %s is full.", d.path), "Make room and try again."
	case lib.SQLITE_CONSTRAINT:
		return "the database refuses it: " + refusal(sqliteErr) + ".", "Correct the value in the source, or decline the record."
	case lib.SQLITE_MISMATCH, lib.SQLITE_TOOBIG:
		return "the database refuses it: a value does not fit.", "Correct the value in the source, or decline the record."
	default:
		if known := schemaError.FindString(sqliteErr.Error()); known != "" {
			return known + ".", ""
		}
		return fmt.Sprintf("SQLite reports an error (%d).", sqliteErr.Code()), ""
	}
}
