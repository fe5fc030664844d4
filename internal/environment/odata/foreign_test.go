package odata_test

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/odata"
	"anagram/internal/environment/web"
)

// translator lets the suite say in SQL what a foreign server should hold: the statements are
// carried out in a SQLite file, whose rows go to the server; what the server holds by then
// comes back before.
type translator struct {
	*conformance.Foreign
	db     *sql.DB
	served bool
}

// types are those of the server for the words of the suite.
var types = map[string]string{"INTEGER": "Edm.Int32", "VARCHAR(40)": "Edm.String", "DECIMAL(10,3)": "Edm.Decimal", "BOOLEAN": "Edm.Boolean",
	"DATE": "Edm.Date", "TEXT": "Edm.String", "JSON": "Edm.Untyped", "BLOB": "Edm.Binary"}

func (tr *translator) exec(t *testing.T, statement string) {
	t.Helper()
	if tr.served {
		tr.fetch(t)
	}
	_, err := tr.db.Exec(statement)
	require.NoError(t, err, statement)
	if tr.served {
		tr.serve(t)
	}
}

func (tr *translator) tables(t *testing.T) map[string]conformance.ForeignSet {
	t.Helper()
	out := map[string]conformance.ForeignSet{}
	rows, err := tr.db.Query(`SELECT t.name, c.name, c.type, c.pk FROM sqlite_schema t, pragma_table_info(t.name) c WHERE t.type = 'table'`)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var table, name, typ string
		var primary int
		require.NoError(t, rows.Scan(&table, &name, &typ, &primary))
		set, ok := out[table]
		if !ok {
			set = conformance.ForeignSet{Fields: map[string]string{}, Rows: []map[string]any{}}
			if table == "things" {
				set.Unique = []string{"code"}
			}
		}
		if tr.Text && (name == "id" || strings.HasSuffix(name, "_id")) {
			typ = "VARCHAR(40)"
		}
		set.Fields[tr.there(name)] = types[typ]
		out[table] = set
	}
	require.NoError(t, rows.Err())
	for _, set := range out {
		if set.Fields[tr.ID] == "" { // a table of the suite without an id has one there
			set.Fields[tr.ID] = map[bool]string{true: "Edm.String", false: "Edm.Int32"}[tr.Text]
		}
	}
	return out
}

// there is how a column is called at the server.
func (tr *translator) there(column string) string {
	if column == "id" {
		return tr.ID
	}
	return column
}

// serve brings the rows to the server.
func (tr *translator) serve(t *testing.T) {
	t.Helper()
	sets := tr.tables(t)
	for table, set := range sets {
		rows, err := tr.db.Query("SELECT * FROM " + table)
		require.NoError(t, err)
		columns, err := rows.Columns()
		require.NoError(t, err)
		for rows.Next() {
			values := make([]any, len(columns))
			into := make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			require.NoError(t, rows.Scan(into...))
			row := map[string]any{}
			for i, column := range columns {
				name := tr.there(column)
				row[name] = shown(values[i], set.Fields[name])
			}
			if row[tr.ID] == nil {
				row[tr.ID] = map[bool]any{true: fmt.Sprintf("r%d", len(set.Rows)), false: len(set.Rows) + 1}[tr.Text]
			}
			set.Rows = append(set.Rows, row)
		}
		require.NoError(t, rows.Err())
		require.NoError(t, rows.Close())
		sets[table] = set
	}
	tr.Put(t, sets)
	tr.served = true
}

func shown(v any, edm string) any {
	if v == nil {
		return nil
	}
	text := fmt.Sprint(v)
	if b, ok := v.([]byte); ok {
		text = string(b)
	}
	switch edm {
	case "Edm.Boolean":
		return text == "1" || text == "true"
	case "Edm.Int32", "Edm.Decimal":
		return json.Number(text)
	case "Edm.Untyped":
		return json.RawMessage(text)
	case "Edm.Binary":
		return base64.RawURLEncoding.EncodeToString([]byte(text))
	case "Edm.Date":
		return text[:10]
	}
	return text
}

// fetch brings what the server holds by now.
func (tr *translator) fetch(t *testing.T) {
	t.Helper()
	all := tr.All(t)
	for table, set := range tr.tables(t) {
		_, err := tr.db.Exec("DELETE FROM " + table)
		require.NoError(t, err)
		for _, row := range all[table] {
			var columns, marks []string
			var values []any
			for name, edm := range set.Fields {
				column := name
				if name == tr.ID {
					column = "id"
				}
				var has int
				require.NoError(t, tr.db.QueryRow("SELECT count(*) FROM pragma_table_info(?) WHERE name = ?", table, column).Scan(&has))
				if has == 0 || row[name] == nil {
					continue
				}
				columns, marks = append(columns, column), append(marks, "?")
				v := row[name]
				switch edm {
				case "Edm.Untyped":
					text, err := json.Marshal(v)
					require.NoError(t, err)
					v = string(text)
				case "Edm.Binary":
					v, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(fmt.Sprint(v), "="))
					require.NoError(t, err)
				case "Edm.Boolean":
					v = v == true
				default:
					v = fmt.Sprint(v)
				}
				values = append(values, v)
			}
			_, err := tr.db.Exec(fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(columns, ", "), strings.Join(marks, ", ")), values...)
			require.NoError(t, err)
		}
	}
}

func TestServersThatOthersWrotePassTheConnectorSuite(t *testing.T) {
	t.Parallel()
	for name, cannot := range conformance.Foreigners {
		t.Run(name+", which "+cannot, func(t *testing.T) {
			t.Parallel()
			conformance.RunService(t, func(t *testing.T) conformance.Engine {
				db, err := sql.Open("sqlite", "file:"+filepath.Join(t.TempDir(), "suite.db"))
				require.NoError(t, err)
				t.Cleanup(func() { _ = db.Close() })
				tr := &translator{Foreign: conformance.StartForeign(t, name, "../../../test/foreign"), db: db}
				words := map[string]string{"id": "INTEGER PRIMARY KEY", "text": "VARCHAR(40)", "integer": "INTEGER", "decimal": "DECIMAL(10,3)", "boolean": "BOOLEAN",
					"date": "DATE", "timestamp": "TEXT", "json": "JSON", "bytes": "BLOB"}
				if tr.Text {
					words["id"] = "VARCHAR(40) PRIMARY KEY"
				}
				return conformance.Engine{Catalog: "ignore: [" + tr.ID + "]\n", ID: tr.ID, NoBytes: tr.Text, Words: words, Exec: tr.exec,
					Open: func(t *testing.T, readOnly bool) environment.Environment {
						if !tr.served {
							tr.serve(t)
						}
						env, err := odata.Open(context.Background(), odata.Options{ReadOnly: readOnly, Web: web.Options{Name: "suite", Base: tr.Address, Pace: web.Pace{PerSecond: 10000}}})
						require.NoError(t, err)
						return env
					}}
			})
		})
	}
}
