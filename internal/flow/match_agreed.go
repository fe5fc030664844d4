package flow

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
	"anagram/internal/store/sorting"
)

// openAgreed finds what both sides last agreed on: what is given, else what was
// remembered of this pair. Parcels made by hand and parcels that are only compared with
// each other leave no trace.
func (m *matching) openAgreed(ctx context.Context, given string) error {
	p := m.parcel.Manifest
	paired := m.against == nil && p.Origin == ""
	var err error
	if paired && given == "" {
		if m.agreed, err = m.session.openAgreed(p.Source, m.target); err != nil {
			return err
		}
	}
	if paired {
		if m.agreeing, err = m.session.agree(p.Source, m.target, m.agreed, p.Keys, m.catalog.Source); err != nil {
			return err
		}
	}
	if given == "" {
		return nil
	}
	if m.agreed, err = m.session.verified(ctx, given); err != nil {
		return err
	}
	if m.agreeing != nil {
		m.agreeing.old = m.agreed
	}
	return sameKeys(m.agreed, m.catalog, m.session.Workspace.CatalogName())
}

func (m *matching) closeAgreed() {
	if m.agreed != nil {
		_ = m.agreed.Close()
	}
	if m.agreeing != nil {
		m.agreeing.writer.Discard()
	}
}

// agreedLater reports whether what is known to be agreed on a type is from a parcel that
// was exported after this one: then it says nothing about who moved since.
func (m *matching) agreedLater(typ string) bool {
	return m.agreed != nil && m.agreed.Manifest.UpTo[typ] > m.parcel.Manifest.ExportedAt
}

// checkAgreed cautions where that is so.
func (m *matching) checkAgreed(ctx context.Context) error {
	var types []string
	for _, pt := range m.parcel.Manifest.Types {
		if m.agreedLater(pt.Name) {
			types = append(types, pt.Name)
		}
	}
	if len(types) == 0 {
		return nil
	}
	c := check.Overtaken(m.session.libraryName(m.parcel), m.parcel.Manifest.Source, m.target, types)
	m.whole = append(m.whole, c)
	return m.check(ctx, 0, c)
}

// keepAgreed puts what is agreed now in the place of what was.
func (m *matching) keepAgreed(ctx context.Context) error {
	if m.agreeing == nil {
		return nil
	}
	return m.agreeing.finish(ctx, m.catalog, m.parcel.Manifest.Keys)
}

// remembering takes down what is agreed on the records of one type.
type remembering struct {
	out      *parcel.TypeWriter // nil where nothing is remembered
	keyed    *rekeyed           // between note and out where keys may be others than those compared
	fields   []record.Field
	compared int
	whole    bool
}

// agreedOn gives the agreed records of a type, and takes down what is agreed now.
func (m *matching) agreedOn(ctx context.Context, t *catalog.Type, pt parcel.Type, compared []record.Field) (record.Stream, *remembering, error) {
	r := &remembering{fields: compared, compared: len(compared), whole: pt.Whole && len(m.selection.leaveOut) == 0}
	if m.agreeing != nil {
		m.agreeing.done[t.Name] = true
		m.agreeing.took(t.Name, m.parcel.Manifest.ExportedAt)
		r.fields = m.agreeing.fields(t.Name, m.model.Shapes, compared)
		var err error
		if r.out, err = m.agreeing.writer.InOrder(t.Name, r.fields); err != nil {
			return nil, r, err
		}
	}
	stream := agreedStream(ctx, m.agreed, t.Name, m.model.Shapes, r.fields)
	if m.agreedNames.Touches(t.Name) {
		r.keyed = &rekeyed{sorter: sorting.New(m.scratch), typ: t.Name, fields: r.fields, shapes: m.model.Shapes}
		stream = bySource(m.scratch, stream, m.agreedNames, t.Name, r.fields, m.model.Shapes)
	}
	return stream, r, nil
}

func (r *remembering) note(status match.Status, source, target, agreed *record.Record) error {
	if r.out == nil {
		return nil
	}
	// Of most records all is the same, and what is agreed is the line that they have.
	if status == match.Same && r.keyed == nil && len(r.fields) == r.compared && source.Line != nil && !slices.ContainsFunc(source.Values, record.Value.IsAbsent) {
		return r.out.AddLine(source.Key, source.Line)
	}
	if err := loaded(agreed); err != nil {
		return err
	}
	if kept := remembered(r.fields, r.compared, r.whole, source, target, agreed); kept != nil {
		kept.ChangedAt, kept.ChangedBy, kept.Why, kept.Through, kept.Line = "", "", "", "", nil
		if r.keyed != nil {
			return r.keyed.add(*kept)
		}
		return r.out.Add(*kept)
	}
	return nil
}

func (r *remembering) finish() error {
	if r.out == nil {
		return nil
	}
	if r.keyed != nil {
		if err := r.keyed.into(r.out); err != nil {
			return err
		}
	}
	_, err := r.out.Finish(false)
	return err
}

func (r *remembering) discard() {
	if r.keyed != nil {
		r.keyed.sorter.Close()
	}
	if r.out != nil {
		r.out.Discard()
	}
}

// retired tells records that are out of use, where the catalog says how.
func retired(t *catalog.Type, fields []record.Field) func(record.Record) bool {
	at := fieldAt(fields, t.Retired.Field)
	if at < 0 {
		return nil
	}
	return func(rec record.Record) bool { return slices.Contains(t.Retired.Values, rec.Values[at].Text()) }
}
