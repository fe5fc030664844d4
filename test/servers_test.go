package test

import (
	"database/sql"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/environment/conformance"
)

const secretWord = "pa55-w0rd-of-nobody"

// account makes a database account with a password and gives the address without it.
func account(t *testing.T, engine, address string, db *sql.DB, grants ...string) string {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	name := accountName(u)
	run := func(statement string) {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	if engine == "postgres" {
		run(fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '%s'", name, secretWord))
		t.Cleanup(func() { _, _ = db.Exec("DROP OWNED BY " + name); _, _ = db.Exec("DROP ROLE " + name) })
	} else {
		run(fmt.Sprintf("CREATE USER '%s'@'%%' IDENTIFIED BY '%s'", name, secretWord))
		run(fmt.Sprintf("CREATE USER '%s'@'localhost' IDENTIFIED BY '%s'", name, secretWord))
		t.Cleanup(func() {
			_, _ = db.Exec(fmt.Sprintf("DROP USER '%s'@'%%', '%s'@'localhost'", name, name))
		})
	}
	grant(t, engine, address, db, grants...)
	u.User = url.User(name)
	return u.String()
}

// grant gives the account of a test rights.
func grant(t *testing.T, engine, address string, db *sql.DB, grants ...string) {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	name := accountName(u)
	who := []string{"'" + name + "'@'%'", "'" + name + "'@'localhost'"}
	if engine == "postgres" {
		who = []string{name}
	}
	for _, grant := range grants {
		for _, w := range who {
			_, err := db.Exec(strings.ReplaceAll(grant, "{who}", w))
			require.NoError(t, err, grant)
		}
	}
}

func accountOf(t *testing.T, address string) string {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	return accountName(u)
}

func accountName(u *url.URL) string {
	return strings.ReplaceAll(strings.TrimPrefix(u.Path, "/"), "anagram_test", "acct")
}

const serverTables = "CREATE TABLE units (unit_id {id}, code varchar(20) NOT NULL UNIQUE, name varchar(40)); CREATE TABLE assays (assay_id {id}, code varchar(20) NOT NULL UNIQUE, unit_id integer REFERENCES units (unit_id), low decimal(8,2))"

var serverID = map[string]string{"postgres": "serial PRIMARY KEY", "mysql": "integer AUTO_INCREMENT PRIMARY KEY", "sqlite": "INTEGER PRIMARY KEY"}

// serverPlace has an SQLite source and a target on a server.
func serverPlace(t *testing.T, engine string) (*place, string, *sql.DB) {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	address, db := server(t, p, engine, "target")
	for _, statement := range strings.Split(strings.ReplaceAll(serverTables, "{id}", serverID[engine]), "; ") {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	_, err := db.Exec("INSERT INTO units (unit_id, code, name) VALUES (71, 'mg', 'milligramme')")
	require.NoError(t, err)
	p.sql("source", strings.ReplaceAll(serverTables, "{id}", serverID["sqlite"])+"; INSERT INTO units VALUES (1,'mg','milligram'),(2,'g','gram'); INSERT INTO assays VALUES (1,'GLU',1,1.5),(2,'NA',2,2);")
	p.write("catalog.yaml", "types:\n  unit: {at: units, key: [code], id: unit_id}\n  assay: {at: assays, key: [code], id: assay_id, refers: {unit_id: unit}}\n")
	p.target(address, "")
	return p, address, db
}

// target points the workspace's target at an address.
func (p *place) target(address, password string) {
	if password != "" {
		password = ", password: " + password
		defer p.trust()
	}
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: %q%s}\n", address, password))
}

func countUnits(t *testing.T, db *sql.DB) (n int) {
	t.Helper()
	require.NoError(t, db.QueryRow("SELECT count(*) FROM units").Scan(&n))
	return n
}

var serverEngines = []string{"postgres", "mysql"}

func TestPasswordsComeFromOutside(t *testing.T) {
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine, func(t *testing.T) {
			p, address, db := serverPlace(t, engine)
			grant := map[string]string{"postgres": "GRANT SELECT ON ALL TABLES IN SCHEMA public TO {who}", "mysql": "GRANT SELECT ON *.* TO {who}"}[engine]
			mine := account(t, engine, address, db, grant)
			t.Setenv("TARGET_PASSWORD", secretWord)
			p.write("password.txt", secretWord+"\n")
			said := ""
			for _, way := range []string{"{env: TARGET_PASSWORD}", "{file: password.txt}", "{command: [cat, password.txt]}"} {
				p.target(mine, way)
				r := p.must(0, "env", "test", "target", "--verbose")
				assert.Contains(t, words(r.out), "read all tables, write no table")
				said += r.out + r.err
			}
			p.must(0, "export", "target", "--name", "p", "--as-folder")
			for password, why := range map[string]string{"{env: NOT_SET_HERE}": "NOT_SET_HERE", "{file: none.txt}": "none.txt", "{command: [false]}": "the command false", "{keystore: true}": "key store"} {
				p.target(mine, password)
				r := p.must(1, "env", "test", "target")
				assert.Contains(t, words(r.out), why)
				said += r.out + r.err
			}
			if engine == "mysql" { // the PostgreSQL of tests trusts everybody
				t.Setenv("TARGET_PASSWORD", secretWord+"-not")
				p.target(mine, "{env: TARGET_PASSWORD}")
				r := p.must(1, "env", "test", "target")
				assert.Contains(t, words(r.out), "refuses the account")
				said += r.out + r.err
			}
			u, err := url.Parse(mine)
			require.NoError(t, err)
			u.User = url.UserPassword(u.User.Username(), secretWord)
			p.target(u.String(), "")
			r := p.must(2, "env", "list")
			assert.Contains(t, words(r.err), "a password must not stand in anagram.yaml")
			said += r.err
			assert.NotContains(t, said, secretWord, "no output holds the password")
			require.NoError(t, os.Remove(p.path("anagram.yaml")))
			require.NoError(t, os.Remove(p.path("password.txt")))
			for name, text := range p.files() {
				assert.NotContains(t, text, secretWord, name)
			}
		})
	}
}

func TestAnAccountThatMayOnlyDoPart(t *testing.T) {
	read := map[string]string{"postgres": "GRANT SELECT ON ALL TABLES IN SCHEMA public TO {who}", "mysql": "GRANT SELECT ON *.* TO {who}"}
	part := map[string][]string{
		"postgres": {"GRANT SELECT ON ALL TABLES IN SCHEMA public TO {who}", "GRANT INSERT, UPDATE ON units TO {who}", "GRANT USAGE, SELECT, UPDATE ON ALL SEQUENCES IN SCHEMA public TO {who}"},
		"mysql":    {"GRANT SELECT ON *.* TO {who}", "GRANT INSERT, UPDATE ON units TO {who}"},
	}
	all := map[string][]string{
		"postgres": {"GRANT SELECT, INSERT, UPDATE ON ALL TABLES IN SCHEMA public TO {who}", "GRANT USAGE, SELECT, UPDATE ON ALL SEQUENCES IN SCHEMA public TO {who}"},
		"mysql":    {"GRANT SELECT ON *.* TO {who}", "GRANT INSERT, UPDATE ON units TO {who}", "GRANT INSERT, UPDATE ON assays TO {who}"},
	}
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine+" read only", func(t *testing.T) {
			p, address, db := serverPlace(t, engine)
			t.Setenv("TARGET_PASSWORD", secretWord)
			p.target(account(t, engine, address, db, read[engine]), "{env: TARGET_PASSWORD}")
			p.must(0, "export", "source", "--name", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			r := p.must(4, "import")
			assert.Contains(t, words(r.out), "the account may not change records of units in target", "it is known before anything is tried")
			assert.Contains(t, words(r.out), "no-right: assay/GLU cannot be imported: the account may not add records to assays in target. Ask for that right and match again")
			grant(t, engine, address, db, all[engine]...)
			p.must(3, "match", "p", "--against", "target")
			assert.NotContains(t, p.must(0, "review", "--json").out, "no-right", "the mend of the blocker mends it")
			p.must(0, "approve", "*")
			p.must(0, "import")
		})
		t.Run(engine+" some tables", func(t *testing.T) {
			p, address, db := serverPlace(t, engine)
			t.Setenv("TARGET_PASSWORD", secretWord)
			p.target(account(t, engine, address, db, part[engine]...), "{env: TARGET_PASSWORD}")
			assert.Contains(t, words(p.must(0, "env", "test", "target").out), "read all tables, write 1 of 2 tables")
			assert.Contains(t, words(p.must(0, "env", "test", "target").out), "may not add to: assays may not change: assays")
			checked := words(p.must(0, "catalog", "check", "target").out)
			assert.Contains(t, checked, "the account may not add to assays nor change it; nothing can be imported into it, only exported")
			assert.NotContains(t, checked, "units nor")
			p.must(0, "export", "source", "--name", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			r := p.must(5, "import")
			assert.Contains(t, words(r.out), "1 new and 1 changed records were written")
			assert.Contains(t, words(r.out), "no-right: assay/GLU cannot be imported")
			var n int
			require.NoError(t, db.QueryRow("SELECT count(*) FROM units").Scan(&n))
			assert.Equal(t, 2, n, "what the account may do is done, the rest is named")
			p.must(0, "hold", "assay/*", "--again")
			p.must(0, "import")
		})
	}
}

// cutter passes a connection on to a server and cuts it after some bytes from there.
type cutter struct {
	listener net.Listener
	left     atomic.Int64
}

func newCutter(t *testing.T, to string) *cutter {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &cutter{listener: listener}
	c.left.Store(1 << 40)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				_ = near.Close()
				continue
			}
			go func() { _, _ = io.Copy(far, near); _ = far.Close() }()
			go func() {
				defer near.Close()
				defer far.Close()
				buffer := make([]byte, 2048)
				for {
					n, err := far.Read(buffer)
					if c.left.Add(-int64(n)) < 0 || err != nil {
						return
					}
					if _, err := near.Write(buffer[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return c
}

func TestAServerThatGoesAway(t *testing.T) {
	inGate(t, "connections that are cut")
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, address, db := serverPlace(t, engine)
			p.sql("source", "WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i+1 FROM n WHERE i < 1999) INSERT INTO units (code, name) SELECT 'u' || i, 'unit ' || i FROM n;")
			u, err := url.Parse(address)
			require.NoError(t, err)
			cut := newCutter(t, u.Host)
			u.Host = cut.listener.Addr().String()
			p.target(u.String(), "")
			p.must(0, "export", "source", "--name", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			for _, bytes := range []int64{200, 3000, 9000, 20_000, 60_000} {
				cut.left.Store(bytes)
				r := p.run("import")
				assert.Equal(t, 1, r.code, "cut after %d bytes: %s%s", bytes, r.out, r.err)
				assert.Contains(t, words(r.err), "Check", "says what to do: %s", r.err)
				assert.Equal(t, 1, countUnits(t, db), "nothing is half-written")
			}
			cut.left.Store(1 << 40)
			p.must(0, "import")
			assert.Equal(t, 2002, countUnits(t, db))
			for _, bytes := range []int64{200, 9000, 40_000} {
				cut.left.Store(bytes)
				r := p.run("export", "target", "--name", "half")
				assert.Equal(t, 1, r.code, "cut after %d bytes: %s%s", bytes, r.out, r.err)
				_, err := os.Stat(p.path("parcels/half.parcel"))
				assert.ErrorIs(t, err, os.ErrNotExist, "no half parcel")
			}
			cut.left.Store(1 << 40)
			p.must(0, "export", "target", "--name", "half")
			u.Host = "127.0.0.1:1"
			p.target(u.String(), "")
			assert.Contains(t, words(p.must(1, "export", "target").err), "cannot be reached")
		})
	}
}

func TestTwoImportsCannotRunAtOnce(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		p, address, db := serverPlace(t, engine)
		_ = address
		p.must(0, "export", "source", "--name", "p")
		p.must(3, "match", "p", "--against", "target")
		p.must(0, "approve", "*")
		db.SetMaxOpenConns(1)
		take, give := "SELECT pg_advisory_lock(1097754477)", "SELECT pg_advisory_unlock(1097754477)"
		if engine == "mysql" {
			take, give = "DO GET_LOCK(concat('anagram-', database()), 1)", "DO RELEASE_LOCK(concat('anagram-', database()))"
		}
		_, err := db.Exec(take)
		require.NoError(t, err)
		assert.Contains(t, words(p.must(1, "import").err), "another import is at work")
		_, err = db.Exec(give)
		require.NoError(t, err)
		p.must(0, "import")
	}
}

// Internal ids in the forms met in practice, where the database does not give them.
func TestInternalIDsOfEveryKind(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			address, db := server(t, p, engine, "target")
			exec := func(statements string) {
				for _, statement := range strings.Split(statements, ";") {
					_, err := db.Exec(statement)
					require.NoError(t, err, statement)
				}
			}
			exec("CREATE TABLE counted (id integer PRIMARY KEY, code varchar(9) UNIQUE); CREATE TABLE largest (id integer PRIMARY KEY, code varchar(9) UNIQUE, counted_id integer); CREATE TABLE made (id varchar(36) PRIMARY KEY, code varchar(9) UNIQUE); CREATE TABLE fresh (id integer PRIMARY KEY, code varchar(9) UNIQUE); CREATE TABLE ids (table_name varchar(20) PRIMARY KEY, next_id integer);" +
				"INSERT INTO counted VALUES (40, 'old'); INSERT INTO largest VALUES (7, 'old', 40); INSERT INTO ids VALUES ('counted', 90)")
			p.sql("source", "CREATE TABLE counted (id integer PRIMARY KEY, code TEXT); CREATE TABLE largest (id integer PRIMARY KEY, code TEXT, counted_id integer); CREATE TABLE made (id TEXT, code TEXT); CREATE TABLE fresh (id integer PRIMARY KEY, code TEXT); INSERT INTO counted VALUES (1,'a'),(2,'b'); INSERT INTO largest VALUES (1,'x',2),(2,'y',1); INSERT INTO made VALUES ('1','m'); INSERT INTO fresh VALUES (1,'f');")
			p.write("catalog.yaml", `types:
  counted: {key: [code], id: {field: id, made_by: counter, counter: {at: ids, last: next_id, where: {table_name: counted}}}}
  largest: {key: [code], id: {field: id, made_by: largest}, refers: {counted_id: counted}}
  made: {key: [code], id: {field: id, made_by: uuid}}
  fresh: {key: [code], id: {field: id, made_by: counter, counter: {at: ids, last: next_id, where: {table_name: fresh}}}}
`)
			p.target(address, "")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import", "--rehearse")
			p.must(0, "import")
			var got []string
			for _, query := range []string{"SELECT concat_ws(' ', id, code) FROM counted ORDER BY 1", "SELECT concat_ws(' ', id, code, counted_id) FROM largest ORDER BY 1", "SELECT concat_ws(' ', id, code) FROM fresh", "SELECT concat_ws(' ', table_name, next_id) FROM ids ORDER BY 1"} {
				rows, err := db.Query(query)
				require.NoError(t, err)
				for rows.Next() {
					var line string
					require.NoError(t, rows.Scan(&line))
					got = append(got, line)
				}
				require.NoError(t, rows.Err())
			}
			assert.Equal(t, []string{"40 old", "91 a", "92 b", "7 old 40", "8 x 92", "9 y 91", "1 f", "counted 92", "fresh 1"}, got)
			var uuid string
			require.NoError(t, db.QueryRow("SELECT id FROM made").Scan(&uuid))
			assert.Len(t, uuid, 36)
			assert.Equal(t, map[string]int{"target_only": 2}, totals(p.json(0, "match", "p", "--against", "target")))
		})
	}
	_ = conformance.Postgres // the servers of these tests are made there
}

// A database may take values for the same that are not: it is asked, not imitated.
func TestAUniqueValueIsTakenAsTheTargetComparesIt(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	address, db := server(t, p, "mysql", "target")
	for _, statement := range []string{
		"CREATE TABLE items (id integer AUTO_INCREMENT PRIMARY KEY, code varchar(20) COLLATE utf8mb4_bin NOT NULL UNIQUE, name varchar(40) UNIQUE) COLLATE utf8mb4_general_ci",
		"INSERT INTO items (code, name) VALUES ('X', 'Äpfel'), ('B', 'b'), ('C', 'c')",
	} {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	p.sql("source", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT); INSERT INTO items (code, name) VALUES ('A', 'APFEL '), ('B', 'B'), ('C', 'ç')")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id}\n")
	p.target(address, "")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	f := p.review()
	assert.Equal(t, []string{"taken"}, f["item/A"].Reasons)
	assert.Contains(t, f["item/A"].Checks[0].Message, "is held by item/X in target")
	assert.Empty(t, f["item/B"].Checks, "another case of its own value")
	assert.Empty(t, f["item/C"].Checks)
	p.must(0, "approve", "*")
	p.must(0, "import")
}
