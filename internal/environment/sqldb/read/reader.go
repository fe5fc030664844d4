package read

import (
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// Reader reads records over one connection.
type Reader struct {
	*query.Conn
	*translate.Translator
	locking bool                                 // rows read by key are going to be written
	Met     map[string]map[string]query.Identity // records read while locking, by type and ID
	names   map[string]map[string]string         // of people, see people.go
}

// New reads over a connection; locking says that rows which are read by key are going to
// be written.
func New(c *query.Conn, locking bool) *Reader {
	return &Reader{Conn: c, Translator: translate.New(c.Name, c, c.Dialect, c.Can.WordsOnly), locking: locking,
		Met: map[string]map[string]query.Identity{}}
}

// remember keeps how a record that was read is told, so that it is found again whatever
// becomes of its key. An ID that two records have tells neither.
func (s *Reader) remember(typ, id string, of query.Identity) {
	if s.Met[typ] == nil {
		s.Met[typ] = map[string]query.Identity{}
	}
	if other, ok := s.Met[typ][id]; ok && other.MapKey() != of.MapKey() {
		of = nil
	}
	s.Met[typ][id] = of
}
