package sides

import (
	"context"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/docket"
)

// PairsOf gives the pairs of a docket; nil where it has none.
func PairsOf(d *docket.Docket) (*pairing.Names, error) {
	if len(d.Header.Paired) == 0 {
		return nil, nil
	}
	names := pairing.New(d.Catalog, d.Header.Keys)
	for _, p := range d.Header.Paired {
		source, err := d.Header.Keys.ParseKey(p.Source, p.Type)
		if err != nil {
			return nil, err
		}
		target, err := d.Header.Keys.ParseKey(p.Target, p.Type)
		if err != nil {
			return nil, err
		}
		names.Add(p.Type, target, source)
	}
	return names, nil
}

// An environment in which paired records have the names that the source gives them.

// pairedReader brings what is asked for to the target's names and what is read to the
// source's.
type pairedReader struct {
	environment.Reader
	names *pairing.Names
}

// Renamed gives a reader in which paired records have the names that the source gives
// them; the reader itself where nothing is paired.
func Renamed(reader environment.Reader, names *pairing.Names) environment.Reader {
	if names == nil {
		return reader
	}
	return pairedReader{reader, names}
}

// both gives the keys under which a record may stand: by the target's name and by the
// source's, which somebody may have given it meanwhile.
func (p pairedReader) both(typ string, keys []record.Key) []record.Key {
	if keys == nil {
		return nil
	}
	seen := map[string]bool{}
	out := []record.Key{}
	for _, key := range keys {
		for _, name := range []record.Key{p.names.Target(typ, key), p.names.TargetWas(typ, key), key} {
			if !seen[name.Order()] {
				seen[name.Order()] = true
				out = append(out, name)
			}
		}
	}
	return out
}

// Read streams records.
func (p pairedReader) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	if !p.names.Touches(r.Type) {
		return p.Reader.Read(ctx, m, r)
	}
	r.Keys, r.Lines = p.both(r.Type, r.Keys), false // names stand in keys and values
	if r.Field != "" {
		t, _ := m.Catalog.Type(r.Type)
		r.Of = p.both(t.Refers[r.Field].One(), r.Of)
	}
	if r.With != nil {
		with := *r.With
		with.Sets = make([][]record.Value, len(r.With.Sets))
		for i, set := range r.With.Sets {
			for _, v := range set {
				with.Sets[i] = append(with.Sets[i], p.names.ToTarget(v))
			}
		}
		r.With = &with
	}
	return func(yield func(record.Record, error) bool) {
		for rec, err := range p.Reader.Read(ctx, m, r) {
			if err == nil {
				rec = p.names.ToSource(r.Type, r.Fields, rec)
			}
			if !yield(rec, err) {
				return
			}
		}
	}
}

// Locate tells for each key how many records have it, under whichever name.
func (p pairedReader) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	if !p.names.Touches(typ) {
		return p.Reader.Locate(ctx, m, typ, keys)
	}
	var names []record.Key
	var of []int
	for i, key := range keys {
		for _, name := range p.both(typ, []record.Key{key}) {
			names, of = append(names, name), append(of, i)
		}
	}
	counts, err := p.Reader.Locate(ctx, m, typ, names)
	if err != nil {
		return nil, err
	}
	out := make([]int, len(keys))
	for i, n := range counts {
		out[of[i]] += n
	}
	return out, nil
}

// pairedWork is a unit of work on such a target.
type pairedWork struct {
	environment.Work
	pairedReader
}

// Into is Renamed for a unit of work.
func Into(work environment.Work, names *pairing.Names) environment.Work {
	if names == nil {
		return work
	}
	return pairedWork{work, pairedReader{work, names}}
}

// Read streams records.
func (w pairedWork) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	return w.pairedReader.Read(ctx, m, r)
}

// Locate tells for each key how many records have it.
func (w pairedWork) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	return w.pairedReader.Locate(ctx, m, typ, keys)
}

// Write carries out changes. What comes after a change of a key is written by the new
// one, so each such change ends a batch.
func (w pairedWork) Write(ctx context.Context, m *environment.Model, changes []environment.Change) ([]error, error) {
	var refused []error
	var batch []environment.Change
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		more, err := w.Work.Write(ctx, m, batch)
		refused, batch = append(refused, more...), nil
		return err
	}
	for _, c := range changes {
		batch = append(batch, Named(w.names, c))
		if c.Was == nil {
			continue
		}
		if err := flush(); err != nil {
			return refused, err
		}
		if refused[len(refused)-1] == nil {
			w.names.Written(c.Type, c.Key)
		}
	}
	return refused, flush()
}

// Named brings a change to the names of the target as it is by now.
func Named(names *pairing.Names, c environment.Change) environment.Change {
	if !names.Touches(c.Type) {
		return c
	}
	t := names.Type(c.Type)
	switch {
	case c.Was != nil:
		was := names.TargetWas(c.Type, c.Key)
		c.Was, c.Key = &was, names.TargetParts(c.Type, c.Key)
	case c.Insert:
		c.Key = names.TargetParts(c.Type, c.Key)
	default:
		c.Key = names.Target(c.Type, c.Key)
	}
	named := func(values []record.Value) []record.Value {
		out := make([]record.Value, len(values))
		for i, v := range values {
			if !t.Refers[c.Fields[i].Name].ByKey {
				v = names.ToTarget(v)
			}
			out[i] = v
		}
		return out
	}
	c.Values = named(c.Values)
	if c.Expect != nil {
		c.Expect = named(c.Expect)
	}
	return c
}

// InTarget gives a record that was read by the source's names by those of the target, as they
// are by now.
func InTarget(names *pairing.Names, t *catalog.Type, fields []record.Field, rec record.Record) record.Record {
	key := rec.Stands()
	rec.Was = nil
	rec.Key = key
	if !names.Touches(t.Name) {
		return rec
	}
	rec.Key = names.TargetParts(t.Name, key)
	values := make([]record.Value, len(rec.Values))
	for i, v := range rec.Values {
		if !t.Refers[fields[i].Name].ByKey {
			v = names.ToTarget(v)
		}
		values[i] = v
	}
	rec.Values = values
	return rec
}
