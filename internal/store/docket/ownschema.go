package docket

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"sync"
)

// A docket's schema is exactly that of this program, so that nothing in it can run.

// part is one object of a schema.
type part struct{ kind, name, table, sql string }

func parts(ctx context.Context, q queryer) (map[string]part, error) {
	rows, err := q.QueryContext(ctx, "SELECT type, name, tbl_name, ifnull(sql, '') FROM sqlite_schema")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]part{}
	for rows.Next() {
		var p part
		if err := rows.Scan(&p.kind, &p.name, &p.table, &p.sql); err != nil {
			return nil, err
		}
		out[p.kind+" "+p.name] = p
	}
	return out, rows.Err()
}

// own is the schema that this program makes.
var own = sync.OnceValues(func() (map[string]part, error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(schema); err != nil {
		return nil, err
	}
	return parts(context.Background(), db)
})

// checkSchema refuses whatever a docket has in its schema that this program does not make.
func (d *Docket) checkSchema(ctx context.Context) error {
	want, err := own()
	if err != nil {
		return err
	}
	have, err := parts(ctx, d.db)
	if err != nil {
		return d.wrap(err)
	}
	for key, p := range have {
		if w, ok := want[key]; !ok || w != p {
			return &Error{Path: d.path, Message: fmt.Sprintf("it has a %s %s that Anagram did not make", p.kind, strconv.Quote(p.name))}
		}
	}
	for key := range want {
		if _, ok := have[key]; !ok {
			return &Error{Path: d.path, Message: "it has no " + strings.Replace(key, " ", " \"", 1) + "\""}
		}
	}
	return nil
}
