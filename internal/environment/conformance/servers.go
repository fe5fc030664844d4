package conformance

import (
	"crypto/rand"
	"database/sql"
	"net/url"
	"os"
	"strings"
	"testing"

	"anagram/internal/environment"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"
)

// Servers that tests use; each test makes its own database there and drops it. The
// variables point elsewhere. Where no server answers, the test is skipped with that
// reason, unless ANAGRAM_TEST_REQUIRE_SERVERS is set.
const (
	postgresVariable = "ANAGRAM_TEST_POSTGRES"
	mysqlVariable    = "ANAGRAM_TEST_MYSQL"
	requireVariable  = "ANAGRAM_TEST_REQUIRE_SERVERS"
	defaultPostgres  = "postgres://postgres@127.0.0.1:5432/postgres?sslmode=disable"
)

func setting(name, otherwise string) string {
	if value := os.Getenv(name); value != "" {
		return value
	}
	return otherwise
}

// Postgres makes an empty PostgreSQL database and gives its URL and a connection.
func Postgres(t *testing.T) (string, *sql.DB) {
	t.Helper()
	server := setting(postgresVariable, defaultPostgres)
	open := func(u *url.URL) (string, string) {
		// What tests write themselves need not outlive a failure of power.
		own := *u
		query := own.Query()
		query.Set("synchronous_commit", "off")
		own.RawQuery = query.Encode()
		return "pgx", own.String()
	}
	if name := used.take(); name != "" {
		u, err := url.Parse(server)
		require.NoError(t, err)
		u.Path = "/" + name
		_, address := open(u)
		db, err := sql.Open("pgx", address)
		require.NoError(t, err)
		t.Cleanup(func() { used.giveBack(db, name) })
		return u.String(), db
	}
	admin, err := sql.Open("pgx", server)
	require.NoError(t, err)
	return fresh(t, admin, server, postgresVariable, `"`, open)
}

// MySQL makes an empty MariaDB or MySQL database and gives its URL and a connection.
func MySQL(t *testing.T) (string, *sql.DB) {
	t.Helper()
	server := setting(mysqlVariable, "mysql://root@127.0.0.1:3306/")
	u, err := url.Parse(server)
	require.NoError(t, err)
	driver := func(u *url.URL) (string, string) {
		return "mysql", u.User.String() + "@tcp(" + u.Host + ")" + "/" + strings.TrimPrefix(u.Path, "/") + "?multiStatements=true"
	}
	name, address := driver(u)
	admin, err := sql.Open(name, address)
	require.NoError(t, err)
	return fresh(t, admin, server, mysqlVariable, "`", driver)
}

func fresh(t *testing.T, admin *sql.DB, server, variable, quote string, driver func(*url.URL) (name, address string)) (string, *sql.DB) {
	t.Helper()
	if err := admin.Ping(); err != nil {
		_ = admin.Close()
		if os.Getenv(requireVariable) != "" {
			require.NoError(t, err, "%s forbids skipping", requireVariable)
		}
		t.Skipf("no server answers; start one or point %s elsewhere", variable)
	}
	name := "anagram_test_" + strings.ToLower(rand.Text()[:12])
	_, err := admin.Exec("CREATE DATABASE " + quote + name + quote)
	require.NoError(t, err)
	u, err := url.Parse(server)
	require.NoError(t, err)
	u.Path = "/" + name
	driverName, address := driver(u)
	db, err := sql.Open(driverName, address)
	require.NoError(t, err)
	t.Cleanup(func() {
		if quote == `"` && used.giveBack(db, name) {
			_ = admin.Close()
			return
		}
		_ = db.Close()
		force := ""
		if quote == `"` {
			force = " WITH (FORCE)"
		}
		_, _ = admin.Exec("DROP DATABASE " + quote + name + quote + force)
		_ = admin.Close()
	})
	return u.String(), db
}

// Served is an engine whose databases are on a server that db is connected to.
func Served(words map[string]string, db *sql.DB, open func(readOnly bool) (environment.Environment, error)) Engine {
	return Engine{
		Words: words,
		Exec: func(t *testing.T, statement string) {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		},
		Open: func(t *testing.T, readOnly bool) environment.Environment {
			env, err := open(readOnly)
			require.NoError(t, err)
			return env
		},
	}
}
