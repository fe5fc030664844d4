package matching

import (
	"context"

	"anagram/internal/core/limit"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Attachments that differ are kept from both sides, so that who decides can look at them. Of the
// source's the parcel has them; those of the target are asked for, some records at a time.

const attachedBatch = 20

// attached are the records of one type whose attachments in the target are wanted.
type attached struct {
	fields []record.Field // of bytes
	keys   []record.Key
}

func newAttached(fields []record.Field) *attached {
	a := &attached{}
	for _, field := range fields {
		if field.Kind == record.Bytes {
			a.fields = append(a.fields, field)
		}
	}
	return a
}

// note keeps the source's attachments that differ, and remembers to ask for the target's.
func (a *attached) note(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	if len(a.fields) == 0 || f.Found.Source == nil || f.Found.Target == nil || match.Hopeless(f.Found.Reasons) {
		return nil
	}
	wanted := false
	for _, d := range f.Found.Differences {
		if d.Key || w.fields[d.Field].Kind != record.Bytes {
			continue
		}
		keepAttached(d.Source, out)
		wanted = wanted || d.Target.Kind() == record.Bytes
	}
	if !wanted {
		return out.err
	}
	if a.keys = append(a.keys, f.Found.Key); len(a.keys) < attachedBatch {
		return out.err
	}
	return a.flush(ctx, c, w, out)
}

// flush reads the target's.
func (a *attached) flush(ctx context.Context, c compared, w atWork, out *sink) error {
	if len(a.keys) == 0 {
		return nil
	}
	defer func() { a.keys = nil }()
	for _, key := range a.keys { // one after the other, as they can be large
		var there []record.Value
		reading := environment.Reading{Type: w.Name, Fields: a.fields, Keys: []record.Key{key}, Sums: true}
		for rec, err := range c.reader.Read(ctx, c.model, reading) {
			if err != nil {
				return err
			}
			there = append(there, rec.Values...)
		}
		for _, v := range there {
			keepAttached(v, out)
		}
	}
	return out.err
}

// keepAttached keeps an attachment that is at hand and not too large to be looked at.
func keepAttached(v record.Value, out *sink) {
	if v.Kind() == record.Bytes && v.Content() != nil && v.Content().Size() <= limit.Attachment {
		out.does(func() error { return out.builder.Content(out.ctx, v) })
	}
}
