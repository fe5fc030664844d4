//go:build unix

package test

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/environment/conformance"
)

// Databases that are more than one machine, or stand behind something: a pooler that hands
// server connections round, a standby, a cluster.

// freePort gives a port that nobody listens on.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// asServant makes a command run as the account of a server, as servers refuse root.
func asServant(t *testing.T, cmd *exec.Cmd, account, dir string) {
	t.Helper()
	if os.Getuid() != 0 {
		return
	}
	u, err := user.Lookup(account)
	require.NoError(t, err)
	uid, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(u.Gid)
	require.NoError(t, err)
	require.NoError(t, os.Chown(dir, uid, gid))
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	cmd.Dir = "/"
}

// serve starts a server that stays in the foreground, and ends it with the test.
func serve(t *testing.T, account, dir string, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	asServant(t, cmd, account, dir)
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		done := make(chan struct{})
		go func() { _ = cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			_ = cmd.Process.Kill()
		}
		if t.Failed() {
			text, _ := os.ReadFile(out.Name())
			t.Log(name + ": " + string(text[max(0, len(text)-3000):]))
		}
	})
}

// answers waits until a database can be used.
func answers(t *testing.T, driver, address string) *sql.DB {
	t.Helper()
	db, err := sql.Open(driver, address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	require.Eventually(t, func() bool { return db.Ping() == nil }, 60*time.Second, 100*time.Millisecond, address)
	return db
}

// shortDir is a folder that other accounts can reach, of a name short enough for sockets.
func shortDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "anagram-srv-") //nolint:usetesting // other accounts have to get in
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// A pooler hands each transaction to another server connection, and keeps no setting of a
// session. The whole job goes through it.
func TestBehindAPoolerThatHandsTransactionsRound(t *testing.T) {
	inLongRun(t, "a pooler")
	t.Parallel()
	pooler := tool(t, "pgbouncer")
	for _, more := range []string{"", "ignore_startup_parameters = extra_float_digits,row_security,IntervalStyle,bytea_output,lock_timeout,DateStyle\n"} {
		p := &place{t: t, dir: t.TempDir(), user: "mara"}
		address, db := conformance.Postgres(t)
		host, database, _ := strings.Cut(strings.TrimPrefix(address, "postgres://"), "/")
		who, server, _ := strings.Cut(host, "@")
		database, _, _ = strings.Cut(database, "?")
		serverHost, serverPort, err := net.SplitHostPort(server)
		require.NoError(t, err)
		dir, port := shortDir(t), freePort(t)
		ini := filepath.Join(dir, "pooler.ini")
		require.NoError(t, os.WriteFile(ini, fmt.Appendf(nil, "[databases]\n* = host=%s port=%s user=%s\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = %d\nunix_socket_dir =\nauth_type = any\npool_mode = transaction\ndefault_pool_size = 4\nserver_round_robin = 1\n%s",
			serverHost, serverPort, who, port, more), 0o644))
		serve(t, "postgres", dir, pooler, ini)
		through := fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s?sslmode=disable", who, port, database)
		answers(t, "pgx", through+"&default_query_exec_mode=simple_protocol")
		// The pooler's server connections go from hand to hand meanwhile.
		stop := make(chan struct{})
		var busy sync.WaitGroup
		for range 3 {
			busy.Add(1)
			go func() {
				defer busy.Done()
				other, err := sql.Open("pgx", through+"&default_query_exec_mode=simple_protocol")
				if err != nil {
					return
				}
				defer other.Close()
				for {
					select {
					case <-stop:
						return
					default:
						_, _ = other.Exec("SET DateStyle = 'German'; SET row_security = on; SELECT pg_sleep(0.001)")
					}
				}
			}()
		}
		run(t, db, "CREATE TABLE units (id serial PRIMARY KEY, code text UNIQUE, name text)", "CREATE TABLE items (id serial PRIMARY KEY, code text UNIQUE, day date, at timestamptz, price float8, unit_id integer REFERENCES units)",
			"INSERT INTO items (code, day, at, price) VALUES ('A', '2025-12-24', '2025-12-24 10:00:00.123456+02', 0.1), ('OWN', NULL, NULL, NULL)")
		p.sql("source", "CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT); CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, day DATE, at TIMESTAMP, price REAL, unit_id INTEGER); INSERT INTO units VALUES (1,'mg','milligram'); INSERT INTO items VALUES (1,'A','2025-12-25','2025-12-24 08:00:00.123456',0.1,1),(2,'B','2025-01-02','2025-01-02 00:00:00',1e300,NULL);")
		p.write("catalog.yaml", "types:\n  unit: {at: units, key: [code], id: id}\n  item: {at: items, key: [code], id: id, refers: {unit_id: unit}}\n")
		p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\", zone: UTC}\n  target: {connect: %q}\n", through))
		trustElsewhere(p)
		assert.Contains(t, words(p.must(0, "env", "test", "target").out), "through a pooler")
		p.must(3, "match", "source", "--against", "target", "--name", "p")
		assert.Equal(t, "day", p.review()["item/A"].Fields[0].Field)
		p.must(0, "approve", "*")
		p.must(0, "import", "--rehearse")
		assert.Equal(t, []string{"2"}, lines(t, db, "SELECT count(*) FROM items"))
		p.must(0, "import")
		assert.Equal(t, []string{"A|2025-12-25|mg", "B|2025-01-02|", "OWN||"}, lines(t, db, "SELECT i.code, day::text, u.code FROM items i LEFT JOIN units u ON u.id = unit_id ORDER BY 1"))
		p.must(0, "match", "p", "--against", "target")
		p.must(3, "restore", "1")
		p.must(0, "approve", "*", "--take", "source")
		p.must(0, "import")
		assert.Equal(t, []string{"A|2025-12-24|", "OWN||"}, lines(t, db, "SELECT i.code, day::text, u.code FROM items i LEFT JOIN units u ON u.id = unit_id ORDER BY 1"))

		// The lock holds, and rows that are hidden are not taken for missing.
		held, err := db.Begin()
		require.NoError(t, err)
		_, err = held.Exec("SELECT pg_advisory_xact_lock(1097754477)")
		require.NoError(t, err)
		p.must(3, "match", "p", "--against", "target")
		p.must(0, "approve", "*")
		assert.Contains(t, words(p.must(1, "import").err), "another import is at work")
		require.NoError(t, held.Rollback())
		close(stop)
		busy.Wait()
	}
}

// A standby is read as any other, and written by nobody.
func TestAStandbyIsASource(t *testing.T) {
	inLongRun(t, "two servers of its own")
	t.Parallel()
	bin := ""
	for _, found := range globbed("/usr/lib/postgresql/*/bin/pg_basebackup") {
		bin = filepath.Dir(found)
	}
	if bin == "" {
		tool(t, "pg_basebackup")
		bin = filepath.Dir(tool(t, "initdb"))
	}
	dir := shortDir(t)
	primary, standby := freePort(t), freePort(t)
	do := func(name string, args ...string) {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		asServant(t, cmd, "postgres", dir)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	do("initdb", "-D", dir+"/one", "-U", "postgres", "-A", "trust", "--no-sync", "-E", "UTF8", "--locale=C.UTF-8")
	options := func(port int, data string) []string {
		return []string{"-D", data, "-p", fmt.Sprint(port), "-k", dir, "-c", "listen_addresses=127.0.0.1", "-c", "fsync=off", "-c", "max_standby_streaming_delay=0"}
	}
	serve(t, "postgres", dir, filepath.Join(bin, "postgres"), options(primary, dir+"/one")...)
	url := func(port int) string {
		return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/postgres?sslmode=disable", port)
	}
	db := answers(t, "pgx", url(primary))
	do("pg_basebackup", "-h", "127.0.0.1", "-p", fmt.Sprint(primary), "-U", "postgres", "-D", dir+"/two", "-R", "-X", "stream", "--no-sync", "-c", "fast")
	serve(t, "postgres", dir, filepath.Join(bin, "postgres"), options(standby, dir+"/two")...)
	copied := answers(t, "pgx", url(standby))
	run(t, db, "CREATE TABLE items (id serial PRIMARY KEY, code text UNIQUE, name text)", "INSERT INTO items (code, name) SELECT 'I' || n, 'n' FROM generate_series(1, 2000) n")
	require.Eventually(t, func() bool {
		var n int
		return copied.QueryRow("SELECT count(*) FROM items").Scan(&n) == nil && n == 2000
	}, 30*time.Second, 50*time.Millisecond)
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.sql("target", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT);")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id}\n")
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q}\n  target: {connect: \"sqlite:target.db\"}\n", url(standby)))
	reached := words(p.must(0, "env", "test", "source").out)
	assert.Contains(t, reached, "(a standby) as postgres ")
	assert.Contains(t, reached, "1 table, read all tables, write no table")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"2000"}, p.rows("target", "SELECT count(*) FROM items"))

	// As a target it is known beforehand to take nothing.
	p.sql("target", "UPDATE items SET name = 'other' WHERE code = 'I1'; DELETE FROM items WHERE code = 'I2'; INSERT INTO items (code, name) VALUES ('NEW', 'x')")
	p.must(3, "match", "target", "--against", "source", "--name", "back")
	assert.Contains(t, words(p.must(0, "review", "--only", "item/NEW", "--full").out), "no-right")
	p.must(0, "approve", "*", "--take", "source")
	p.must(4, "import", "--to", "source")

	// What the standby has to take over ends a reading: that is said, and it can be done again.
	run(t, db, "CREATE VIEW slow AS SELECT i.id, i.code, i.name || coalesce((SELECT ''::text FROM pg_sleep(0.003 + 0 * i.id)), '') AS name FROM items i")
	time.Sleep(500 * time.Millisecond)
	p.write("catalog.yaml", "types:\n  item: {at: slow, key: [code], id: id}\n")
	slow := p.command("export", "source", "--name", "cut")
	var said strings.Builder
	slow.Stdout, slow.Stderr = &said, &said
	require.NoError(t, slow.Start())
	time.Sleep(700 * time.Millisecond)
	run(t, db, "DELETE FROM items WHERE code > 'I2'", "VACUUM FULL items")
	require.Error(t, slow.Wait(), said.String())
	assert.Contains(t, words(said.String()), "is a standby and broke off reading, as it had to take over what its primary did.")
	assert.NoFileExists(t, p.path("parcels/cut.parcel"))
	p.must(0, "export", "source", "--name", "again")
}
