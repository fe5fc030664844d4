package docket

import "database/sql"

// DB is the file itself, for tests that alter it.
func (d *Docket) DB() *sql.DB { return d.db }
