package matching

import (
	"context"
	"errors"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/library"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// One record type after the other.

// atWork is the record type that is being compared.
type atWork struct {
	*catalog.Type
	place    catalog.Place  // in the target
	fields   []record.Field // those that both sides have
	required []string       // those that the target wants of a new record
	filled   []string       // columns that the import fills in a new record
	covered  known.Coverage // since when the type is known whole
}

// work gives a type as it is going to be compared.
func work(c compared, t *catalog.Type, fields []record.Field) atWork {
	w := atWork{Type: t, place: c.env.About.Places[t.Place(c.target)], fields: fields}
	w.required = check.Required(w.place, fields)
	for _, stamp := range t.Stamped(w.place, c.target, t.Signature(c.session.Who, c.signs.ids)) {
		w.filled = append(w.filled, stamp.Name)
	}
	return w
}

// collectors take down what findings of one type want to be looked up together.
type collectors struct {
	renames *renames  // nil where none are looked for
	claims  *claiming // nil where nothing is unique beside the key
	rules   *ruling   // nil where the target has no rules
	outside *outsiders
	files   *attached
}

func newCollectors(c compared, w atWork) (collectors, error) {
	outside, err := newOutsiders(c, w)
	return collectors{renames: newRenames(c, w.Type), claims: newClaiming(c, w), rules: newRuling(c, w), outside: outside,
		files: newAttached(w.fields)}, err
}

// note tells the lookups of a finding; those that have enough ask.
func (col collectors) note(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	col.renames.note(f)
	if err := col.files.note(ctx, c, w, f, out); err != nil {
		return err
	}
	if err := col.outside.note(ctx, c, w, f); err != nil {
		return err
	}
	if err := col.claims.note(ctx, c, w, f, out); err != nil {
		return err
	}
	if err := col.rules.note(ctx, f, out); err != nil {
		return err
	}
	return keyInUse(ctx, c, f, out)
}

// flush asks for what is left, and gives the findings that the target has outside.
func (col collectors) flush(ctx context.Context, c compared, w atWork, likely *likelyNames, out *sink) ([]heldOutside, error) {
	col.renames.tell(c, likely, out)
	if err := col.files.flush(ctx, c, w, out); err != nil {
		return nil, err
	}
	if err := col.claims.flush(ctx, c, w, out); err != nil {
		return nil, err
	}
	if err := col.outside.flush(ctx, c, w); err != nil {
		return nil, err
	}
	if err := col.rules.flush(ctx, out); err != nil || col.outside == nil {
		return nil, err
	}
	return col.outside.held, nil
}

// matchType compares the records of one type, and adds to what is looked at later.
func matchType(ctx context.Context, c compared, t *catalog.Type, pt parcel.Type, late later, out *sink) (later, error) {
	if there, ok := c.env.Fit.Fields[t.Name]; !ok || there == nil {
		notThere(c, t, pt, out)
		return late, out.err
	}
	fields, at := commonFields(c, t, pt, out)
	total := 0
	if c.against == nil && pt.Whole {
		total = c.session.Total(ctx, c.env, t.Place(c.target))
	}
	c.session.Progress.Start("reading "+t.Name+" of "+c.target, total)
	defer c.session.Progress.Done()
	w := work(c, t, fields)
	target, err := readTarget(ctx, c, w, pt)
	if err != nil {
		return late, err
	}
	defer target.sorter.Close()
	noKeys(t.Name, c.source, pt.Unkeyed, true, out)
	noKeys(t.Name, c.target, target.unkeyed, false, out)
	c.session.Progress.Start("comparing "+t.Name, pt.Records)
	counts, late, err := compareType(ctx, c, w, streams{parcel: c.fromParcel(ctx, t.Name, fields, at),
		target: target.sorted(ctx, t.Name, fields, c.model.Shapes),
		whole:  pt.Whole && pt.Unkeyed == nil && target.unkeyed == nil}, late, out)
	if err != nil {
		return late, err
	}
	hardlyMeets(c, w, counts.By, out)
	unsigned(c, w, counts.By, out)
	others, err := target.others(ctx, c, w)
	if err != nil {
		return late, err
	}
	out.typeDone(docket.Type{Name: t.Name, Fields: fields, Required: w.required, Counts: counts.By, NotCompared: others +
		counts.NotCompared})
	return late, out.err
}

// noKeys says on the docket which records of a side are not compared, as their keys cannot be read.
func noKeys(typ, environment string, of *parcel.Unkeyed, source bool, out *sink) {
	if of != nil {
		out.onDocket(check.NoKey(typ, environment, of.Named, of.Records-len(of.Named), source))
	}
}

// streams are the records of one type on both sides, in key order.
type streams struct {
	parcel, target record.Stream
	whole          bool // the parcel has the whole type
}

// compareType passes over both sides once.
func compareType(ctx context.Context, c compared, w atWork, of streams, late later, out *sink) (match.Counts, later, error) {
	before, remember, err := agreed.Type(ctx, c.known, c.remembers, agreed.Compared{Type: w.Name, Fields: w.fields,
		Shapes: c.model.Shapes, Names: c.agreedNames, Docket: c.number, Now: c.session.Stamp(), Only: w.Only,
		ExportedAt: c.parcel.Manifest.ExportedAt, Whole: of.whole && len(c.selection.LeaveOut) == 0, Scratch: c.scratch,
		Zones: agreed.Zones{Here: c.model.Here, There: c.model.There}})
	defer remember.Discard()
	if err != nil {
		return match.Counts{}, late, err
	}
	w.covered = before.Coverage
	collect, err := newCollectors(c, w)
	if err != nil {
		return match.Counts{}, late, err
	}
	counts, err := match.Join(match.Input{
		Fields: w.fields, Keys: c.model.Shapes[w.Name], Agreed: before.Records, AgreedLater: c.back == nil && c.agreedLater(w.Name),
		AgreedIsAll: c.back != nil, SourceName: c.source, TargetName: c.target, Copied: c.copied, Then: c.then,
		Covers: before.Covers(c.names, w.Name),
		Seen:   before.Seen, Remember: remember.Note, Retired: retired(w.Type, w.fields), Source: of.parcel,
		Outside: c.parcel.Outside(ctx, w.Name), Target: of.target,
		// Of the target only what is in scope was read.
		InScope:   func(record.Key) bool { return true },
		Unknown:   c.unknownInTarget(w.Name),
		Ambiguous: out.ambiguousWithin, AnyAmbiguous: func() bool { return len(out.ambiguous) > 0 },
	}, func(of match.Finding) error {
		f := found(c, w, of, out)
		if one, ok := c.made(f); ok {
			late.created[w.Name] = append(late.created[w.Name], one)
		}
		if out.err != nil {
			return out.err
		}
		return collect.note(ctx, c, w, f, out)
	})
	if err != nil {
		return counts, late, err
	}
	held, err := collect.flush(ctx, c, w, late.likely, out)
	for _, one := range held {
		err = errors.Join(err, remember.Seen(one.key))
	}
	if err = errors.Join(err, remember.Finish()); err != nil {
		return counts, late, err
	}
	late.outside = append(late.outside, held...)
	return counts, late, asWritten(ctx, c, w, late.created[w.Name], out)
}

// notThere says that a whole type is not compared, as the target does not have it.
func notThere(c compared, t *catalog.Type, pt parcel.Type, out *sink) {
	missing := check.NoPlace(t.Name, c.target, t.Place(c.target))
	if c.against != nil {
		missing = check.NotInParcel(t.Name, c.target)
	}
	out.notCompared(t.Name, missing)
	out.typeDone(docket.Type{Name: t.Name, Fields: pt.Fields, Counts: map[match.Status]int{}, NotCompared: pt.Records})
}

// commonFields gives the fields that both sides have, and where each stands in the
// parcel's records.
func commonFields(c compared, t *catalog.Type, pt parcel.Type, out *sink) (fields []record.Field, at []int) {
	there := c.env.Fit.Fields[t.Name]
	for i, field := range pt.Fields {
		j := record.FieldAt(there, field.Name)
		if j < 0 {
			out.notCompared(t.Name+"."+field.Name, check.FieldOnOneSide(t.Name, field.Name, c.source, c.target))
			continue
		}
		field.Required = there[j].Required
		field.Rule = t.Rules[field.Name]
		fields, at = append(fields, field), append(at, i)
	}
	for _, field := range there {
		if without := c.parcel.Manifest.Selection.NoFiles && field.Kind == record.Bytes; !without &&
			record.FieldAt(pt.Fields, field.Name) < 0 {
			out.notCompared(t.Name+"."+field.Name, check.FieldOnOneSide(t.Name, field.Name, c.target, "the parcel"))
		}
	}
	return fields, at
}

// retired tells records that are out of use, where the catalog says how.
func retired(t *catalog.Type, fields []record.Field) func(record.Record) bool {
	at := record.FieldAt(fields, t.Retired.Field)
	if at < 0 {
		return nil
	}
	return func(rec record.Record) bool { return t.Retired.Is(rec.Values[at]) }
}

// oneSided names the record types that only the target's parcel holds.
func oneSided(c compared, out *sink) {
	if c.against == nil {
		return
	}
	for _, pt := range c.against.Manifest.Types {
		if _, ok := c.parcel.Manifest.Type(pt.Name); !ok {
			out.notCompared(pt.Name, check.NotInParcel(pt.Name, "parcel "+library.NameOf(c.parcel)))
		}
	}
}
