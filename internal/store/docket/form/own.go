package form

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"anagram/internal/files/sqlitefile"
)

// A docket's schema is exactly that of its version, so that nothing in it can run.

// part is one object of a schema.
type part struct{ kind, name, table, sql string }

func parts(ctx context.Context, q sqlitefile.Queryer) (map[string]part, error) {
	scan := func(row sqlitefile.Row) (p part, err error) {
		err = row.Scan(&p.kind, &p.name, &p.table, &p.sql)
		p.sql = strings.Join(strings.Fields(p.sql), " ")
		return p, err
	}
	return sqlitefile.By(ctx, q, func(p part) string { return p.kind + " " + p.name }, scan,
		"SELECT type, name, tbl_name, ifnull(sql, '') FROM sqlite_schema")
}

// own are the schemas that this program makes, or once made, each made when it is asked for.
var own = map[int]func() (map[string]part, error){}

func init() {
	for version := Oldest; version <= Version; version++ {
		own[version] = sync.OnceValues(func() (map[string]part, error) {
			db, err := sql.Open("sqlite", ":memory:")
			if err != nil {
				return nil, err
			}
			defer db.Close()
			db.SetMaxOpenConns(1)
			if _, err := db.Exec(schemaOf(version)); err != nil {
				return nil, err
			}
			return parts(context.Background(), db)
		})
	}
}

// Strange says what a file has in its schema that a version does not make, or lacks of it; ""
// where it is as it should be.
func Strange(ctx context.Context, q sqlitefile.Queryer, version int) (string, error) {
	want, err := own[version]()
	if err != nil {
		return "", err
	}
	have, err := parts(ctx, q)
	if err != nil {
		return "", err
	}
	for key, p := range have {
		if w, ok := want[key]; !ok || w != p {
			return fmt.Sprintf("it has a %s %s that Anagram did not make", p.kind, strconv.Quote(p.name)), nil
		}
	}
	for key := range want {
		if _, ok := have[key]; !ok {
			return "it has no " + strings.Replace(key, " ", " \"", 1) + "\"", nil
		}
	}
	return "", nil
}
