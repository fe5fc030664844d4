package translate

import (
	"context"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/query"
)

// lookup is what translating asks of an environment: the description of a type, and rows of its
// table by what some columns hold. A database is one; a test can be one that holds a few rows.
type lookup interface {
	// Table is a record type as the environment has it.
	Table(ctx context.Context, m *environment.Model, typ string) (query.Table, error)
	// Where reads columns of the rows of which some columns (by) have one of the given tuples
	// of stored values; nulls are equal to nulls there.
	Where(ctx context.Context, t query.Table, names, by []string, tuples []query.Identity, row func([]any) error) error
	// All reads columns of all rows.
	All(ctx context.Context, t query.Table, names []string, row func([]any) error) error
}

// coder brings stored values to the canonical form of a kind and back, see engine.Dialect.
type coder interface {
	Decode(stored any, kind record.Kind, c catalog.Column) (record.Value, error)
	Encode(v record.Value, c catalog.Column) (any, error)
}

// Translator goes between what an environment stores and records, and remembers between batches
// what it found.
type Translator struct {
	in        string // the environment's name, for messages
	rows      lookup
	coder     coder
	wordsOnly bool // declared types are words only, see engine.Capabilities

	keys    map[string]map[string]record.Key // see learnedBy: internal id -> key
	outside map[string]map[string]bool       // the same for records that are left out
	cached  int
	located map[string]map[string][]query.Identity // type -> key order -> records with it
	odd     map[string]map[string][]query.Identity // see locate.go

	conditions map[string]*condition.Condition // of types that leave records out
	outsiders  map[string]bool                 // types that can have records left out
}

// New translates for an environment. WordsOnly says that declared types of columns are words only,
// so that what the catalog says of them counts.
func New(environment string, rows lookup, c coder, wordsOnly bool) *Translator {
	s := &Translator{in: environment, rows: rows, coder: c, wordsOnly: wordsOnly, conditions: map[string]*condition.Condition{},
		outsiders: map[string]bool{}}
	s.Forget()
	return s
}

// maxCached bounds the ids and keys that a session remembers between batches.
const maxCached = 200_000

// Forget drops what was found: from here on it may be otherwise.
func (s *Translator) Forget() {
	s.keys = map[string]map[string]record.Key{}
	s.outside = map[string]map[string]bool{}
	s.located = map[string]map[string][]query.Identity{}
	s.cached = 0
}

// ForgetAll drops also which records have a key in another form than it would be written in.
func (s *Translator) ForgetAll() {
	s.Forget()
	s.odd = nil
}
