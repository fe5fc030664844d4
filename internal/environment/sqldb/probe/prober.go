package probe

import (
	"database/sql"

	"anagram/internal/environment/sqldb/query"
)

// Prober looks at data and tries values, over one connection.
type Prober struct {
	*query.Conn
	aside *sql.DB // where values are tried, nil before one is
}

// New looks over a connection.
func New(c *query.Conn) *Prober { return &Prober{Conn: c} }

// Close closes what was opened to try values.
func (s *Prober) Close() {
	if s.aside != nil {
		_ = s.aside.Close()
		s.aside = nil
	}
}
