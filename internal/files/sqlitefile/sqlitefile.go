// Package sqlitefile opens SQLite files, the one way it is done in Anagram.
//
// The contract: the path is taken as it is, whatever signs it holds; nothing in it is read
// as an option. A file that does not exist is only made where that is asked for. A connection
// reaches no other file. What is locked stays locked, whatever else of the process opens and
// closes the same file, where the system can do that.
package sqlitefile

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Options say how a file is opened. The zero Options opens one that exists, for reading
// and writing.
type Options struct {
	Create   bool // it is made where it is not there
	ReadOnly bool
	Wait     time.Duration // how long another program's lock is waited for
	Pragmas  []string      // such as foreign_keys(1), for each connection
	Attach   bool          // its connections may reach other files, by statements of ours
}

// escaper writes the signs of a path that mean something in a file: URL.
var escaper = strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23")

// Open opens a file. Errors of the file itself come with the first statement.
func Open(path string, o Options) (*sql.DB, error) {
	mode := "rw"
	switch {
	case o.ReadOnly:
		mode = "ro"
	case o.Create:
		mode = "rwc"
	}
	query := "mode=" + mode
	for _, pragma := range append([]string{fmt.Sprintf("busy_timeout(%d)", o.Wait.Milliseconds())}, o.Pragmas...) {
		query += "&_pragma=" + url.QueryEscape(pragma)
	}
	return sql.OpenDB(connector{dsn: "file:" + escaper.Replace(path) + "?" + query, attach: o.Attach}), nil
}

// Memory opens a database in memory, which can reach no file. It is for one connection.
func Memory() *sql.DB {
	db := sql.OpenDB(connector{dsn: ":memory:"})
	db.SetMaxOpenConns(1)
	db.SetMaxIdleConns(1)
	return db
}

// connector opens connections that reach their own file alone, whatever stands in its schema
// or in a statement.
type connector struct {
	dsn    string
	attach bool
}

// ownLocks makes locks those of a connection, where SQLite's usual ones are those of the
// process and end when it closes the file anywhere. Where the system has no such locks, the
// usual ones stay; the error says no more than that.
var ownLocks = sync.OnceValue(func() error {
	_, err := sqlite.OFDLocking(true)
	return err
})

// Connect opens a connection.
func (c connector) Connect(ctx context.Context) (driver.Conn, error) {
	_ = ownLocks()
	conn, err := c.Driver().Open(c.dsn)
	if err != nil || c.attach {
		return conn, err
	}
	// The limit is set on a connection of a pool; this pool has just this one, and lets it go
	// without closing it.
	pool := sql.OpenDB(only{conn})
	one, err := pool.Conn(ctx)
	if err == nil {
		_, err = sqlite.Limit(one, lib.SQLITE_LIMIT_ATTACHED, 0)
	}
	_ = pool.Close()
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

// Driver gives the driver.
func (connector) Driver() driver.Driver { return &sqlite.Driver{} }

type only struct{ conn driver.Conn }

func (o only) Connect(context.Context) (driver.Conn, error) { return o.conn, nil }
func (o only) Driver() driver.Driver                        { return &sqlite.Driver{} }
