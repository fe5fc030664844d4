// Package sqlitefile opens SQLite files, the one way it is done in Anagram.
//
// The contract: the path is taken as it is, whatever signs it holds; nothing in it is read
// as an option. A file that does not exist is only made where that is asked for.
package sqlitefile

import (
	"database/sql"
	"fmt"
	"net/url"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// Options say how a file is opened. The zero Options opens one that exists, for reading
// and writing.
type Options struct {
	Create   bool // it is made where it is not there
	ReadOnly bool
	Wait     time.Duration // how long another program's lock is waited for
	Pragmas  []string      // such as foreign_keys(1), for each connection
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
	return sql.Open("sqlite", "file:"+escaper.Replace(path)+"?"+query)
}
