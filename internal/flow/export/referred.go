package export

import (
	"context"
	"slices"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/spill"
	"anagram/internal/flow/choose"
	"anagram/internal/store/parcel"
)

// referred lists what is referred to and not in the parcel, with sums of its values, so
// that a match can tell whether the target's record is another one in all but name.
func (ex *exporting) referred(ctx context.Context) error {
	sums := map[string]map[string]string{}
	look := func(batch []spill.Pick) error {
		clear(sums)
		for len(batch) > 0 {
			n := slices.IndexFunc(batch, func(r spill.Pick) bool { return r.Type != batch[0].Type })
			if n < 0 {
				n = len(batch)
			}
			if err := ex.sums(ctx, batch[:n], sums); err != nil {
				return err
			}
			batch = batch[n:]
		}
		return nil
	}
	return ex.writer.Referred(choose.Mentions(ex.Set, look, func(r spill.Pick) (parcel.Mention, error) {
		key, err := ex.Model.Shapes.ParseKey([]byte(r.Key), r.Type)
		return parcel.Mention{Address: ex.Model.Catalog.Address(r.Type, key), Through: r.Through, Sums: sums[r.Type+"\x00"+r.Order]}, err
	}))
}

func (ex *exporting) sums(ctx context.Context, batch []spill.Pick, out map[string]map[string]string) error {
	typ := batch[0].Type
	fields := slices.DeleteFunc(slices.Clone(ex.Env.Fit.Fields[typ]), func(f record.Field) bool { return f.Kind == record.Bytes })
	var keys []record.Key
	for _, r := range batch {
		key, err := ex.Model.Shapes.ParseKey([]byte(r.Key), typ)
		if err != nil {
			return err
		}
		keys = append(keys, key)
	}
	for rec, err := range ex.Env.Read(ctx, ex.Model, environment.Reading{Type: typ, Fields: fields, Keys: keys, Sums: true}) {
		if err != nil {
			return err
		}
		of := map[string]string{}
		for i, field := range fields {
			if rec.Values[i].IsAbsent() { // it cannot be read
				continue
			}
			of[field.Name] = field.Kind.String() + " " + field.Sum(rec.Values[i])
		}
		out[typ+"\x00"+rec.Key.Order()] = of
	}
	return nil
}
