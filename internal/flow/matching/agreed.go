package matching

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/library"
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
		if m.agreed, err = agreed.Open(m.session, p.Source, m.target); err != nil {
			return err
		}
	}
	if paired {
		if m.agreeing, err = agreed.Begin(m.session, p.Source, m.target, m.agreed, p.Keys, m.catalog.Source); err != nil {
			return err
		}
	}
	if given == "" {
		return nil
	}
	if m.agreed, err = library.Verified(ctx, m.session, given); err != nil {
		return err
	}
	if m.agreeing != nil {
		m.agreeing.Old = m.agreed
	}
	return SameKeys(m.agreed, m.catalog, m.session.Workspace.CatalogName())
}

func (m *matching) closeAgreed() {
	if m.agreed != nil {
		_ = m.agreed.Close()
	}
	if m.agreeing != nil {
		m.agreeing.Writer.Discard()
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
	c := check.Overtaken(library.LibraryName(m.session, m.parcel), m.parcel.Manifest.Source, m.target, types)
	m.whole = append(m.whole, c)
	return m.check(ctx, 0, c)
}

// keepAgreed puts what is agreed now in the place of what was.
func (m *matching) keepAgreed(ctx context.Context) error {
	if m.agreeing == nil {
		return nil
	}
	return m.agreeing.Finish(ctx, m.catalog, m.parcel.Manifest.Keys)
}

// agreedOn gives the agreed records of a type, and takes down what is agreed now.
func (m *matching) agreedOn(ctx context.Context, t *catalog.Type, pt parcel.Type, compared []record.Field) (record.Stream, *agreed.Remembering, error) {
	r := &agreed.Remembering{Fields: compared, Compared: len(compared), Whole: pt.Whole && len(m.selection.LeaveOut) == 0}
	if m.agreeing != nil {
		m.agreeing.Done[t.Name] = true
		m.agreeing.Took(t.Name, m.parcel.Manifest.ExportedAt)
		r.Fields = m.agreeing.Fields(t.Name, m.model.Shapes, compared)
		var err error
		if r.Out, err = m.agreeing.Writer.InOrder(t.Name, r.Fields); err != nil {
			return nil, r, err
		}
	}
	stream := agreed.Stream(ctx, m.agreed, t.Name, m.model.Shapes, r.Fields)
	if m.agreedNames.Touches(t.Name) {
		r.Keyed = &agreed.Rekeyed{Sorter: sorting.New(m.scratch), Typ: t.Name, Fields: r.Fields, Shapes: m.model.Shapes}
		stream = agreed.BySource(m.scratch, stream, m.agreedNames, t.Name, r.Fields, m.model.Shapes)
	}
	return stream, r, nil
}

// retired tells records that are out of use, where the catalog says how.
func retired(t *catalog.Type, fields []record.Field) func(record.Record) bool {
	at := record.FieldAt(fields, t.Retired.Field)
	if at < 0 {
		return nil
	}
	return func(rec record.Record) bool { return slices.Contains(t.Retired.Values, rec.Values[at].Text()) }
}
