package agreed

import (
	"context"
	"iter"
	"slices"

	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

// Compared is one type of a match, as far as it matters for what is agreed.
type Compared struct {
	Type       string
	Fields     []record.Field // those that are compared
	Shapes     record.Shapes
	Names      *pairing.Names // by which the source knows what was agreed; nil is by the same
	ExportedAt string         // when the source was read
	Whole      bool           // both sides were read whole
	Docket     int            // that the match makes
	Now        string         // RFC 3339
	Only       string         // the condition of the type
	Scratch    string
	Zones      Zones
}

// Before is what was known of a type, by the source's keys.
type Before struct {
	Records record.Stream                // nil where nothing is known
	Seen    iter.Seq2[record.Key, error] // nil where nothing is known
	// Covered says that every record that was on both sides at Coverage is among Records or Seen.
	Covered  bool
	Coverage known.Coverage
}

// Covers tells of which keys all is known that was on both sides: not of those that somebody paired, as
// nobody may have known then that both are one. Nil is of none.
func (b Before) Covers(names *pairing.Names, typ string) func(record.Key) bool {
	if !b.Covered {
		return nil
	}
	return func(key record.Key) bool {
		return !names.Touches(typ) || names.Target(typ, key).Order() == key.Order()
	}
}

// Type gives what was known of a type, and a Remembering that takes down what is known now. Old may be
// nil, as may w: then nothing is remembered.
func Type(ctx context.Context, old *parcel.Reader, w *Writing, c Compared) (Before, *Remembering, error) {
	r := &Remembering{fields: c.Fields, compared: len(c.Fields), whole: c.Whole, docket: c.Docket, at: c.Now, writing: w}
	if w != nil {
		r.fields = w.begin(c.Type, c.ExportedAt, c.Fields)
		var err error
		if r.out, err = w.out.InOrder(c.Type, r.fields); err != nil {
			return Before{}, r, err
		}
		r.seen = w.out.Outside(c.Type)
		if c.Whole {
			w.covers(c)
		}
	}
	out := before(ctx, old, c)
	out.Records = stream(ctx, old, c.Type, c.Shapes, r.fields, c.Zones, c.Names.Touches(c.Type))
	if c.Names.Touches(c.Type) {
		r.keyed = newRekeyed(c.Scratch, c.Type, r.fields, c.Shapes)
		out.Records = bySource(c.Scratch, out.Records, c.Names, c.Type, r.fields, c.Shapes)
	}
	return out, r, nil
}

// before gives coverage and the keys that were seen; of a type whose key was another one, or that its
// condition narrowed otherwise, nothing follows.
func before(ctx context.Context, old *parcel.Reader, c Compared) Before {
	var out Before
	if old == nil || !sameShape(old.Manifest.Keys[c.Type], c.Shapes[c.Type]) {
		return out
	}
	out.Coverage, out.Covered = old.Manifest.Covered[c.Type]
	out.Covered = out.Covered && out.Coverage.Only == c.Only
	if out.Seen = old.Outside(ctx, c.Type); c.Names.Touches(c.Type) {
		out.Seen = keysBySource(c.Scratch, out.Seen, c.Names, c.Type, c.Shapes)
	}
	return out
}

// Remembering takes down what is agreed on the records of one type.
type Remembering struct {
	out      *parcel.TypeWriter // nil where nothing is remembered
	keyed    *rekeyed           // between Note and out where keys may be others than those compared
	seen     *parcel.OutsideWriter
	fields   []record.Field // those compared first, then others that are kept
	compared int
	whole    bool
	docket   int
	at       string
	writing  *Writing
}

// Shared is what both sides have the same: how many records, and the latest stamp among those that
// have the same stamp as well, "" for none. Where one side was copied from the other, it was then.
type Shared struct {
	Records int
	Stamp   string
}

func (s *Shared) note(source, target *record.Record) {
	s.Records++
	if source.ChangedAt == target.ChangedAt {
		s.Stamp = max(s.Stamp, source.ChangedAt)
	}
}

// First gives what both sides have in common where nothing was known of them before; ok is false where
// something was, or nothing is remembered.
func (w *Writing) First() (shared Shared, ok bool) {
	if w == nil || w.old != nil {
		return Shared{}, false
	}
	return w.shared, true
}

// Seen takes down that it cannot be told what both sides have of a key.
func (r *Remembering) Seen(key record.Key) error {
	if r.out == nil {
		return nil
	}
	return r.seen.Add(key)
}

// Note is match.Input.Remember.
func (r *Remembering) Note(met match.Met) error {
	if r.out == nil {
		return nil
	}
	status, source, target, agreed := met.Status, met.Source, met.Target, met.Agreed
	if status == match.Same {
		r.writing.shared.note(source, target)
	}
	whole := r.whole && !met.Passed
	if agreed == nil && unclear(met, whole) {
		return r.seen.Add(met.Key)
	}
	// Of most records all is the same, and what is agreed is the line that they have. One whose
	// values were not read has the line of an environment, which leaves out no field.
	if status == match.Same && r.keyed == nil && len(r.fields) == r.compared && source.Line != nil &&
		!slices.ContainsFunc(source.Values, record.Value.IsAbsent) {
		return r.same(source, agreed)
	}
	// What neither side was asked about stays as it was.
	unasked := source == nil && target == nil && !whole
	if unasked && r.keyed == nil && agreed != nil && agreed.Line != nil && agreed.Was == nil {
		return r.out.Add(record.Record{Key: agreed.Key, Line: agreed.Line, Came: agreed.Came})
	}
	for _, one := range []*record.Record{source, target, agreed} {
		if err := loaded(one); err != nil {
			return err
		}
	}
	return r.keep(r.after(met, whole))
}

// keep adds an entry; nil is none.
func (r *Remembering) keep(entry *record.Record) error {
	if entry == nil {
		return nil
	}
	if entry.Line = nil; r.keyed != nil {
		return r.keyed.add(*entry)
	}
	return r.out.Add(*entry)
}

// same takes down a record that is the same on both sides, with the notes of its entry.
func (r *Remembering) same(source, entry *record.Record) error {
	if entry == nil || entry.Through == "" {
		return r.out.AddLine(source.Key, source.Line)
	}
	same := record.Record{Key: source.Key, Line: source.Line}
	notes := known.NotesOf(entry)
	notes.Gone = nil
	notes.On(&same)
	return r.out.Add(same)
}

// after gives what is known of a key from now on, nil for nothing.
func (r *Remembering) after(met match.Met, whole bool) *record.Record {
	agreed := met.Agreed
	if agreed == nil && slices.ContainsFunc(met.Reasons, func(r match.Reason) bool {
		return r == match.RemovedInTarget || r == match.RemovedInSource
	}) {
		agreed = known.Unvalued(met.Key, r.fields) // both had it when one was copied from the other
	}
	// Of a key that is ambiguous by now what was agreed stays.
	step := known.Match{Fields: r.fields, Compared: r.compared, Docket: r.docket, At: r.at}
	return step.After(whole && !match.Hopeless(met.Reasons), slices.Contains(met.Reasons, match.CreatedOnBoth), met.Source, met.Target,
		agreed)
}

// Finish keeps what was noted.
func (r *Remembering) Finish() error {
	if r.out == nil {
		return nil
	}
	if r.keyed != nil {
		if err := r.keyed.into(r.out); err != nil {
			return err
		}
	}
	if _, err := r.out.Finish(false); err != nil {
		return err
	}
	return r.seen.Finish()
}

// unclear reports whether it cannot be told what both sides have of a key: it occurs more than once, or
// the source leaves the record out; or it was so, and nobody asked again.
func unclear(met match.Met, whole bool) bool {
	switch {
	case match.Hopeless(met.Reasons), met.Outside && met.Source == nil:
		return true
	case met.Seen && met.Source == nil && met.Target == nil:
		return !whole
	default:
		return false
	}
}

// Discard forgets what was noted; after Finish it does nothing.
func (r *Remembering) Discard() {
	if r.keyed != nil {
		r.keyed.sorter.Close()
	}
	if r.out != nil {
		r.out.Discard()
	}
	if r.seen != nil {
		r.seen.Discard()
	}
}
