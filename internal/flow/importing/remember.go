package importing

import (
	"context"
	"slices"

	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/sides"
	"anagram/internal/store/sorting"
)

// rememberImport notes that both sides now have what was imported.
func (im *importing) rememberImport(ctx context.Context) error {
	s, h := im.session, im.docket.Header
	if h.ByHand {
		return nil
	}
	old, err := agreed.Open(s, h.Source, h.Target)
	if err != nil {
		return err
	}
	names, err := sides.PairsOf(im.docket) // as they were, not as they are now
	if err != nil {
		return err
	}
	if old != nil {
		defer old.Close()
	}
	a, err := agreed.Begin(s, h.Source, h.Target, old, h.Keys, im.docket.Catalog.Source)
	if err != nil {
		return err
	}
	defer a.Writer.Discard()
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return err
	}
	sorters := map[string]*sorting.Sorter{}
	defer func() {
		for _, sorter := range sorters {
			sorter.Close()
		}
	}()
	for batch := range slices.Chunk(im.standing.Approved, importBatch) {
		var ids []int64
		for _, one := range batch {
			if im.left[one.Id] == nil {
				ids = append(ids, one.Id)
			}
		}
		lines, err := im.docket.Lines(ctx, ids)
		if err != nil {
			return err
		}
		for _, one := range batch {
			if im.left[one.Id] != nil {
				continue
			}
			t, _ := im.docket.Type(one.Typ)
			rec, err := record.ParseLine([]byte(lines[one.Id].Source), one.Typ, t.Fields, h.Keys)
			if err != nil {
				return err
			}
			for i, field := range t.Fields {
				if !one.Writes(field.Name) {
					rec.Values[i] = record.AbsentValue()
				}
			}
			if sorters[one.Typ] == nil {
				sorters[one.Typ] = sorting.New(scratch)
			}
			stands := rec.Key
			if names.Paired(one.Typ, rec.Key) && !one.Rekeys(im.model.Catalog) {
				was, err := record.ParseLine([]byte(lines[one.Id].Target), one.Typ, t.Fields, h.Keys)
				if err != nil {
					return err
				}
				stands = was.Key
			}
			payload := append(record.AppendKey(nil, stands), 0)
			if err := sorters[one.Typ].Add(sorting.Entry{Order: rec.Key.Order(), Payload: record.AppendLine(payload, t.Fields, rec)}); err != nil {
				return err
			}
		}
	}
	for typ, sorter := range sorters {
		t, _ := im.docket.Type(typ)
		if err := a.Overlay(ctx, t, h.Keys, names, h.ExportedAt, sorter); err != nil {
			return err
		}
	}
	return a.Finish(ctx, im.docket.Catalog, h.Keys)
}
