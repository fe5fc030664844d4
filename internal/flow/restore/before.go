package restore

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
)

// What the target held before the import, and what was written into it, as two parcels.

// batch is how many findings are read at a time.
const batch = 500

// parcels writes both and tells how many records the import wrote.
func (r *restoring) parcels(ctx context.Context, scratch, beforePath, agreedPath string) (int, error) {
	h := r.docket.Header
	manifest := parcel.Manifest{Name: fmt.Sprintf("before-docket-%d", h.Number),
		Source:     fmt.Sprintf("%s before docket %d", h.Target, h.Number),
		ExportedAt: r.imports[0].run.StartedAt, ExportedBy: r.session.Who, Program: r.session.Program, Keys: h.Keys,
		Selection: parcel.Selection{Related: parcel.RelatedNone}}
	before, err := parcel.Create(scratch, manifest, r.docket.Catalog.Source)
	if err != nil {
		return 0, err
	}
	defer before.Discard()
	agreed, err := parcel.Create(scratch, manifest, r.docket.Catalog.Source)
	if err != nil {
		return 0, err
	}
	defer agreed.Discard()
	agreed.LeaveFilesOut()
	var findings []docket.Finding
	for f, err := range r.docket.Found.Findings(ctx, docket.Filter{Patterns: r.patterns}) {
		if err != nil {
			return 0, err
		}
		if slices.ContainsFunc(r.imports, func(w wrote) bool { return w.ids[f.ID] }) {
			findings = append(findings, docket.Finding{ID: f.ID, Type: f.Type})
		}
	}
	for _, t := range r.docket.Types {
		var ids []int64
		for _, f := range findings {
			if f.Type == t.Name {
				ids = append(ids, f.ID)
			}
		}
		if len(ids) == 0 {
			continue
		}
		if err := r.recordsOf(ctx, t, ids, before.Type(t.Name, t.Fields), agreed.Type(t.Name, t.Fields)); err != nil {
			return 0, err
		}
	}
	if _, err := before.Finish(beforePath, false); err != nil {
		return 0, err
	}
	_, err = agreed.Finish(agreedPath, false)
	return len(findings), err
}

func (r *restoring) recordsOf(ctx context.Context, t docket.Type, ids []int64, before, agreed *parcel.TypeWriter) error {
	defer before.Discard()
	defer agreed.Discard()
	for part := range slices.Chunk(ids, batch) {
		lines, err := r.docket.Found.Sides(ctx, part)
		if err != nil {
			return err
		}
		images := make([]map[int64]run.Image, len(r.imports))
		for i, w := range r.imports {
			if images[i], err = run.Images(ctx, r.docket, w.run.Seq, part); err != nil {
				return err
			}
		}
		for _, id := range part {
			line, ok := lines[id]
			if !ok {
				return errFinding
			}
			if err := r.record(t, line, images, before, agreed); err != nil {
				return err
			}
		}
	}
	if _, err := before.Finish(false); err != nil {
		return err
	}
	_, err := agreed.Finish(false)
	return err
}

// earlier is what is known of a record before the imports, and of what they wrote.
type earlier struct {
	was     record.Record // its values are nil where it was not there
	written map[string]bool
	back    docket.Back
	made    bool // an import made it
	odd     bool // it read back otherwise than it was written
}

// earlierOf puts together what the imports kept of a record: of each field what it held before
// the first of them that wrote it, else what the last of them found.
func (r *restoring) earlierOf(t docket.Type, id int64, images []map[int64]run.Image) (earlier, error) {
	out := earlier{written: map[string]bool{}, back: docket.Back{Finding: id, Stored: map[string]record.Stored{}}}
	for i, w := range r.imports {
		out.odd = out.odd || w.odd == id
		image, kept := images[i][id]
		if !w.ids[id] || !kept {
			continue
		}
		if image.Line == "" {
			out.made = true
			out.back.Sum, out.back.ID = w.afters[id].Sum, w.afters[id].ID
			continue
		}
		now, err := record.ParseLine([]byte(image.Line), t.Name, t.Fields, r.docket.Header.Keys)
		if err != nil {
			return out, err
		}
		if out.was.Values == nil {
			out.was = now
		}
		for at, field := range t.Fields {
			if out.written[field.Name] {
				continue
			}
			out.was.Values[at] = now.Values[at]
			if form, ok := image.Stored[field.Name]; ok {
				out.back.Stored[field.Name] = form
			}
		}
		for _, name := range image.Writes {
			out.written[name] = true
		}
		out.back.ID = image.ID
	}
	return out, nil
}

// record writes one record as it was before and as it was written.
func (r *restoring) record(t docket.Type, line docket.Finding, images []map[int64]run.Image, before, agreed *parcel.TypeWriter) error {
	typ, _ := r.docket.Catalog.Type(t.Name)
	e, err := r.earlierOf(t, line.ID, images)
	if err != nil {
		return err
	}
	source := record.Record{}
	if line.Source != "" {
		if source, err = record.ParseLine([]byte(line.Source), t.Name, t.Fields, r.docket.Header.Keys); err != nil {
			return err
		}
	}
	switch {
	case e.made && e.was.Values == nil: // there is nothing that it was
		key := source.Key
		if r.names.Touches(t.Name) {
			key = r.names.TargetParts(t.Name, source.Key)
		}
		r.back.Created[t.Name] = append(r.back.Created[t.Name], key)
		r.of[t.Name+"\x00"+key.Order()] = e.back
		return nil
	case e.was.Values == nil:
		return errFinding
	}
	if err := r.withContents(e.was.Values); err != nil {
		return err
	}
	was := sides.InTarget(r.names, typ, t.Fields, e.was)
	was.Why = parcel.WhyChosen
	r.of[t.Name+"\x00"+was.Key.Order()] = e.back
	if err := before.Add(was); err != nil || line.Source == "" { // it was removed
		return err
	}
	return agreed.Add(r.wrote(typ, t, was, source, e))
}

// withContents gives attachments their content; those that nobody wrote over are not in question.
func (r *restoring) withContents(values []record.Value) error {
	for i, v := range values {
		if v.Kind() != record.Bytes {
			continue
		}
		var err error
		if values[i], err = r.docket.Found.WithContent(v); err != nil {
			return err
		}
		if values[i].Content().Size() < 0 {
			values[i] = record.AbsentValue()
		}
	}
	return nil
}

// wrote gives a record as the imports left it, by the key that the target has for it since.
func (r *restoring) wrote(typ *catalog.Type, t docket.Type, was, source record.Record, e earlier) record.Record {
	after := record.Record{Key: was.Key, Values: slices.Clone(was.Values)}
	wrote := sides.InTarget(r.names, typ, t.Fields, source)
	for i, field := range t.Fields {
		switch {
		case e.written[field.Name]:
			after.Values[i] = wrote.Values[i]
		case e.odd: // what else became of it is not known
			after.Values[i] = record.AbsentValue()
		}
	}
	if slices.ContainsFunc(typ.Key, func(name string) bool { return e.written[name] }) {
		after.Key = r.names.TargetParts(typ.Name, source.Key)
		r.back.Pairs = append(r.back.Pairs, docket.Paired{Type: t.Name, Source: record.AppendKey(nil, was.Key),
			Target: record.AppendKey(nil, after.Key)})
	}
	return after
}
