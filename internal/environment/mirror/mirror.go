package mirror

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/rows"
	"anagram/internal/environment/sqldb/sqlite"
	"anagram/internal/files/sqlitefile"
)

// mirror is an open service with what is known of it so far.
type mirror struct {
	environment.Environment // over the temporary database
	name                    string
	service                 Service
	dir                     string
	q                       engine.Queryer
	about                   *environment.Description
	sets                    map[string]*held
	working                 bool // a unit of work is open
}

// held is what is held of one set.
type held struct {
	columns []string // that are fetched, sorted
	whole   bool
	size    int                        // as the service told it once; 0 before, -1 where it does not
	tagged  bool                       // its rows have versions
	by      map[string]map[string]bool // column -> values, as texts, all of whose rows are here
	indexed map[string]bool
}

// Open opens a service. On an error it is closed.
func Open(ctx context.Context, name string, service Service) (environment.Environment, error) {
	e := &mirror{name: name, service: service, sets: map[string]*held{}}
	var err error
	if e.dir, err = os.MkdirTemp("", "anagram-service-"); err != nil {
		return nil, errors.Join(err, service.Close())
	}
	path := filepath.Join(e.dir, "held.db")
	db, err := sqlitefile.Open(path, sqlitefile.Options{Create: true, Pragmas: []string{"journal_mode(MEMORY)", "synchronous(OFF)",
		"temp_store(FILE)"}})
	if err == nil {
		e.Environment, err = rows.Open(ctx, name, dialect{sqlite.Dialect(path), e}, db, false)
	}
	if err == nil {
		// The connection is taken up, and the service asked what it is.
		_, err = e.Environment.Describe(ctx)
	}
	if err != nil {
		if e.Environment != nil {
			_ = e.Environment.Close()
		}
		return nil, errors.Join(err, service.Close(), os.RemoveAll(e.dir))
	}
	return e, nil
}

// Close forgets what was held.
func (e *mirror) Close() error {
	return errors.Join(e.Environment.Close(), e.service.Close(), os.RemoveAll(e.dir))
}

// Can offers looking at the data and telling what holds on to records.
func (e *mirror) Can() environment.Capabilities {
	return environment.Capabilities{Prober: prober{e}, Holder: holder{e}}
}

// Read fetches what it needs, and reads that.
func (e *mirror) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	return e.reading(ctx, e.Environment, m, r)
}

// Locate fetches what it needs, and looks there.
func (e *mirror) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	if err := e.needKeys(ctx, m, typ, keys, e.working); err != nil {
		return nil, err
	}
	return e.Environment.Locate(ctx, m, typ, keys)
}

func (e *mirror) reading(ctx context.Context, from environment.Reader, m *environment.Model, r environment.Reading) record.Stream {
	return func(yield func(record.Record, error) bool) {
		if err := e.need(ctx, from, m, r); err != nil {
			yield(record.Record{}, err)
			return
		}
		for rec, err := range from.Read(ctx, m, r) {
			if !yield(rec, err) {
				return
			}
		}
	}
}

// dialect is that of the temporary database, with the service's own description.
type dialect struct {
	engine.Dialect
	e *mirror
}

// Can leaves out what the temporary database would decide by itself.
func (d dialect) Can() engine.Capabilities {
	can := d.Dialect.Can()
	can.WordsOnly, can.Broken, can.Defer, can.OneAtATime = false, nil, "", true
	return can
}

// BeginRead begins nothing: rows are added while it is read.
func (d dialect) BeginRead() []string { return nil }

// About tells of the service.
func (d dialect) About(ctx context.Context, _ engine.Queryer) (environment.Description, error) {
	about, err := d.e.describe(ctx)
	if err != nil {
		return environment.Description{}, err
	}
	out := *about
	out.Places = nil
	return out, nil
}

// Describe gives the service's sets, and makes tables for them.
func (d dialect) Describe(ctx context.Context, q engine.Queryer) (map[string]catalog.Place, error) {
	d.e.q = q
	about, err := d.e.describe(ctx)
	if err != nil {
		return nil, err
	}
	return about.Places, nil
}

// Referring goes by what the service says of its sets.
func (d dialect) Referring(_ context.Context, _ engine.Queryer, place string) ([]engine.Referring, error) {
	var out []engine.Referring
	for _, from := range referringTo(d.e, place) {
		p := d.e.about.Places[from]
		for _, c := range p.Columns {
			if c.RefersTo == place {
				out = append(out, engine.Referring{From: d.Place(from), Name: from, Itself: from == place,
					Pairs: []catalog.Pair{{Here: c.Name, There: c.RefersColumn}}})
			}
		}
		for _, key := range p.Foreign {
			if key.To == place {
				out = append(out, engine.Referring{From: d.Place(from), Name: from, Itself: from == place, Pairs: key.Pairs})
			}
		}
	}
	return out, nil
}

// Explain passes on what the service said.
func (d dialect) Explain(err error) (message, mend string) {
	var said *environment.Error
	if errors.As(err, &said) {
		return said.Message, said.Mend
	}
	return d.Dialect.Explain(err)
}

// referringTo lists the sets with references to a place, by name.
func referringTo(e *mirror, place string) []string {
	var out []string
	for name, p := range e.about.Places {
		if slices.ContainsFunc(p.Columns, func(c catalog.Column) bool { return c.RefersTo == place }) ||
			slices.ContainsFunc(p.Foreign, func(k catalog.ForeignKey) bool { return k.To == place }) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func (e *mirror) describe(ctx context.Context) (*environment.Description, error) {
	if e.about == nil {
		about, err := e.service.Describe(ctx)
		if err != nil {
			return nil, err
		}
		e.about = &about
	}
	return e.about, nil
}

// Describe says what the service is.
func (e *mirror) Describe(ctx context.Context) (environment.Description, error) {
	about, err := e.describe(ctx)
	if err != nil {
		return environment.Description{}, err
	}
	return *about, nil
}
