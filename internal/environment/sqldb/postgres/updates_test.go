package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/environment/conformance"
	"anagram/internal/environment/sqldb/engine"
)

// Updates of many rows in one statement do what each of them does alone, refusals included.
func TestUpdatesTogetherDoWhatEachDoesAlone(t *testing.T) {
	ctx := context.Background()
	_, db := conformance.Postgres(t)
	columns := []struct{ name, declared string }{{`"id"`, "bigint"}, {`"a ""b"`, "text"}, {`"short"`, "character varying(5)"}, {`"n"`, "integer"}, {`"d"`, "numeric(8,2)"},
		{`"f"`, "double precision"}, {`"yes"`, "boolean"}, {`"day"`, "date"}, {`"at"`, "timestamp(3) without time zone"}, {`"tz"`, "timestamp with time zone"}, {`"u"`, "uuid"}, {`"body"`, "bytea"}}
	made := make([]string, len(columns))
	for i, c := range columns {
		made[i] = c.name + " " + c.declared
	}
	conn, err := db.Conn(ctx)
	require.NoError(t, err)
	defer conn.Close()
	for _, table := range []string{"alone", "together"} {
		_, err := conn.ExecContext(ctx, "CREATE TABLE "+table+" ("+strings.Join(made, ", ")+", PRIMARY KEY (id), UNIQUE (short))")
		require.NoError(t, err)
	}
	row := func(id int64, values ...any) []any { return append(values, id) }
	plain := [][]any{
		row(1, `quote " back \ brace { } , NULL`, "", int64(-1), "0.005", "1e20", true, "2024-02-29", "2026-01-02 03:04:05.1239", "2026-01-02 03:04:05+02", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11", []byte{0, '\\', '"', 255}),
		row(2, "NULL", "null", nil, nil, nil, nil, nil, nil, nil, nil, nil),
		row(3, nil, nil, int64(2147483647), "-99999.99", -0.5, false, "0001-01-01", "9999-12-31 23:59:59", "2026-01-31 00:00:00+00", nil, []byte{}),
		row(4, "tab\tline\nret\r \x01 ä 𝄞", "öäüßé", int64(0), "12", 0.1, "true", nil, nil, nil, nil, nil),
		row(5, "", "five ", "7", "7", int64(7), true, "infinity", nil, nil, nil, nil),
		row(6, " ", "six", int64(6), "6.555", float64(6), nil, nil, nil, nil, nil, nil),
	}
	run := func(table string, rows [][]any) []engine.Statement {
		one := &engine.OneRow{Place: table, By: []string{`"id"`}}
		var names []string
		for _, c := range columns[1:] {
			names, one.Declared = append(names, c.name), append(one.Declared, c.declared)
		}
		one.Declared = append(one.Declared, columns[0].declared)
		var out []engine.Statement
		for _, values := range rows {
			query := "UPDATE " + table + " SET " + strings.Join(names, " = "+engine.Mark+", ") + " = " + engine.Mark + ` WHERE "id" = ` + engine.Mark
			out = append(out, engine.Statement{Query: query, Columns: names, Args: values, One: one})
		}
		return out
	}
	// carry does that in a transaction of its own; the code is that of the refusal.
	carry := func(table string, rows [][]any) (code string, err error) {
		for _, statement := range []string{"BEGIN", "TRUNCATE " + table, "INSERT INTO " + table + " (id) SELECT g FROM generate_series(1, 20) g"} {
			_, err := conn.ExecContext(ctx, statement)
			require.NoError(t, err)
		}
		statements := run(table, rows)
		require.True(t, together(statements[0]))
		if table == "together" {
			err = raw(conn, func(c *pgx.Conn) error { return dialect{}.updateAll(ctx, c, statements) })
		} else {
			err = raw(conn, func(c *pgx.Conn) error { return dialect{}.pipeline(ctx, c, statements) })
		}
		end := "COMMIT"
		if err != nil {
			end = "ROLLBACK"
		}
		_, ended := conn.ExecContext(ctx, end)
		require.NoError(t, ended)
		var refused *pgconn.PgError
		if errors.As(err, &refused) {
			code = refused.Code
		}
		return code, err
	}
	rows := func(table string) (out []string) {
		require.NoError(t, engine.EachRow(ctx, conn, func(r *sql.Rows) error {
			var text string
			err := r.Scan(&text)
			out = append(out, text)
			return err
		}, "SELECT t::text FROM "+table+" t ORDER BY id"))
		return out
	}
	for _, table := range []string{"alone", "together"} {
		_, err := carry(table, plain)
		require.NoError(t, err, table)
	}
	alone := rows("alone")
	require.Len(t, alone, 20)
	assert.Equal(t, alone, rows("together"))
	assert.Contains(t, alone[0], "0.01", "a decimal is rounded by its column")
	for what, bad := range map[string][]any{
		"a text that is too long":      row(7, "x", "longer", nil, nil, nil, nil, nil, nil, nil, nil, nil),
		"a number out of range":        row(7, "x", "y", "2147483648", nil, nil, nil, nil, nil, nil, nil, nil),
		"a decimal out of range":       row(7, "x", "y", nil, "1000000", nil, nil, nil, nil, nil, nil, nil),
		"a day that there is not":      row(7, "x", "y", nil, nil, nil, nil, "2025-02-29", nil, nil, nil, nil),
		"no UUID":                      row(7, "x", "y", nil, nil, nil, nil, nil, nil, nil, "zz", nil),
		"a value that has to be alone": row(7, "x", "six", nil, nil, nil, nil, nil, nil, nil, nil, nil),
	} {
		t.Run(what, func(t *testing.T) {
			first, err := carry("alone", append(plain[:6:6], bad))
			require.Error(t, err)
			second, err := carry("together", append(plain[:6:6], bad))
			require.Error(t, err)
			assert.Equal(t, first, second)
			assert.NotEmpty(t, first)
		})
	}
	for what, bad := range map[string][]any{"a row that is not there": row(99, "x", "y", nil, nil, nil, nil, nil, nil, nil, nil, nil), "a row that is told twice": row(6, " ", "again", nil, nil, nil, nil, nil, nil, nil, nil, nil)} {
		_, err := carry("together", append(plain[:6:6], bad))
		assert.ErrorIs(t, err, engine.ErrRows, what)
	}
}

func TestTypesOfWhichArraysAreTakenApart(t *testing.T) {
	for declared, want := range map[string]string{"text": "text", "character varying(20)": "character varying", "numeric(10,2)": "numeric", "timestamp(3) without time zone": "timestamp without time zone",
		"character(5)": "", "integer[]": "", "character varying(3)[]": "", "numeric(10,2)[]": "", "jsonb": "", "lab.mood": "", "bit varying(5)": "", "": "", `"text"`: ""} {
		assert.Equal(t, want, plainType(declared), fmt.Sprintf("%q", declared))
	}
}
