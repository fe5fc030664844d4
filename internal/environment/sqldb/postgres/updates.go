package postgres

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"anagram/internal/environment/sqldb/engine"
)

// Updates of many rows in one statement. The values go as one array for each column, as texts
// that the server reads by the column's type, as it does where they come one by one
// (https://www.postgresql.org/docs/current/arrays.html#ARRAYS-IO). Where a row is not found, or
// one is told twice, the count tells, and the updates are carried out one by one.

// plainTypes are those of which an array is taken apart into its values, without the length or
// precision that a column adds to them: that is put on when the value is stored, as it is of a
// single value, and what is too long is refused.
var plainTypes = []string{"text", "character varying", "smallint", "integer", "bigint", "numeric", "double precision", "real",
	"boolean", "date",
	"timestamp without time zone", "timestamp with time zone", "uuid", "bytea"}

// plainType gives a declared type without its length, "" where it is none of the plain ones.
func plainType(declared string) string {
	before, after, found := strings.Cut(declared, "(")
	if found {
		_, after, _ = strings.Cut(after, ")")
		declared = strings.TrimSpace(before) + after
	}
	if slices.Contains(plainTypes, declared) {
		return declared
	}
	return ""
}

// together reports whether an update may be carried out together with others like it.
func together(st engine.Statement) bool {
	return st.One != nil && !slices.ContainsFunc(st.One.Declared, func(declared string) bool { return plainType(declared) == "" })
}

// updateAll carries out updates that differ in nothing but their values.
func (d dialect) updateAll(ctx context.Context, conn *pgx.Conn, run []engine.Statement) error {
	one, columns := run[0].One, run[0].Columns
	width := len(columns) + len(one.By)
	var arrays, names, set, where []string
	for i := range width {
		arrays = append(arrays, fmt.Sprintf("$%d::%s[]", i+1, plainType(one.Declared[i])))
		names = append(names, fmt.Sprintf("v%d", i))
		if i < len(columns) {
			set = append(set, fmt.Sprintf("%s = n.v%d", columns[i], i))
			continue
		}
		where = append(where, fmt.Sprintf("o.%s = n.v%d", one.By[i-len(columns)], i))
	}
	query := fmt.Sprintf("UPDATE %s AS o SET %s FROM unnest(%s) AS n(%s) WHERE %s", d.Place(one.Place), strings.Join(set, ", "),
		strings.Join(arrays, ", "), strings.Join(names, ", "), strings.Join(where, " AND "))
	values := make([][]byte, width)
	for i := range values {
		values[i] = arrayOf(run, i)
	}
	tag, err := conn.PgConn().ExecParams(ctx, query, values, nil, nil, nil).Close()
	if err == nil && tag.RowsAffected() != int64(len(run)) {
		err = engine.ErrRows
	}
	return err
}

// arrayOf writes the values at one place of all statements as an array.
func arrayOf(run []engine.Statement, at int) []byte {
	out := []byte{'{'}
	for n, st := range run {
		if n > 0 {
			out = append(out, ',')
		}
		var text string
		switch v := st.Args[at].(type) {
		case nil:
			out = append(out, "NULL"...)
			continue
		case []byte:
			text = `\x` + hex.EncodeToString(v)
		default:
			text = engine.StoredText(v)
		}
		out = append(out, '"')
		for i := range len(text) {
			if text[i] == '"' || text[i] == '\\' {
				out = append(out, '\\')
			}
			out = append(out, text[i])
		}
		out = append(out, '"')
	}
	return append(out, '}')
}
