package verify

import (
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
)

// What is not to be written is watched: a trigger may alter it all the same.

// Where a place that is written has triggers, all records of the docket's types are watched,
// as long as they are not very many; else those that the docket itself knows.
const (
	mostWatched = 20_000
	fewWatched  = 1000
)

// Others are records of the target that are not to be written, with sums of what they were.
type Others struct {
	whole bool                // whole types, else the docket's findings
	keys  map[string][]string // by type, keys of findings as in a record line
	sums  map[string]watched
}

type watched struct {
	address string
	sum     [sha256.Size]byte
}

// Watch reads what is not to be written.
func Watch(ctx context.Context, r prepare.Ready, target environment.Reader, rest prepare.Rest) (Others, error) {
	out := Others{keys: map[string][]string{}}
	written := map[string]bool{} // by type and key
	triggers := false
	for _, a := range r.Standing.Approved {
		if !rest.Skips(a) {
			typ, _ := r.Model.Catalog.Type(a.Type)
			triggers = triggers || r.Places[typ.Place(r.Model.Environment)].AnyTrigger
		}
	}
	total := 0
	for _, t := range r.Docket.Types {
		for _, status := range match.Statuses() {
			total += t.Counts[status]
		}
	}
	out.whole = triggers && total <= mostWatched
	pending := map[int64]bool{}
	for _, a := range r.Standing.Approved {
		pending[a.ID] = !rest.Skips(a)
	}
	known := 0
	for f, err := range r.Docket.Found.Keys(ctx) {
		if err != nil {
			return out, err
		}
		switch {
		case pending[f.ID]:
			if out.whole {
				written[f.Type+"\x00"+f.Order] = true
			}
		case f.InTarget && !out.whole:
			out.keys[f.Type] = append(out.keys[f.Type], f.Key)
			known++
		}
		if !out.whole && !triggers && known > fewWatched {
			return Others{}, nil
		}
	}
	var err error
	out.sums, err = out.read(ctx, r, target, func(typ string, rec record.Record) bool { return !written[typ+"\x00"+rec.Key.Order()] })
	return out, err
}

// read gives the sums of the records as they are now, by type and what tells them.
func (o Others) read(ctx context.Context, r prepare.Ready, target environment.Reader,
	wanted func(typ string, rec record.Record) bool) (map[string]watched, error) {
	out := map[string]watched{}
	for _, t := range r.Docket.Types {
		typ, ok := r.Model.Catalog.Type(t.Name)
		if _, there := r.Places[typ.Place(r.Model.Environment)]; !ok || !there || !o.whole && len(o.keys[t.Name]) == 0 {
			continue
		}
		fields := slices.DeleteFunc(slices.Clone(t.Fields), func(field record.Field) bool { return follows(r, typ, field.Name) })
		take := func(keys []record.Key) error {
			for rec, err := range target.Read(ctx, r.Model, environment.Reading{Type: t.Name, Fields: fields, Keys: keys,
				Beside: r.Beside[t.Name], Sums: true}) {
				if err != nil {
					return err
				}
				if !wanted(t.Name, rec) {
					continue
				}
				line := rec
				line.ChangedAt, line.ChangedBy = "", "" // what stamps records moves them
				out[t.Name+"\x00"+rec.ID] = watched{r.Model.Catalog.Address(t.Name, rec.Key),
					sha256.Sum256(fmt.Appendf(nil, "%q %s", rec.Beside().Sums, record.AppendLine(nil, fields, line)))}
			}
			return nil
		}
		if o.whole {
			if err := take(nil); err != nil {
				return nil, err
			}
			continue
		}
		for batch := range slices.Chunk(o.keys[t.Name], prepare.ReadBatch) {
			keys := make([]record.Key, len(batch))
			for i, text := range batch {
				var err error
				if keys[i], err = r.Model.Shapes.ParseKey([]byte(text), t.Name); err != nil {
					return nil, err
				}
			}
			if err := take(keys); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// Altered gives the records that are not as they were, or are gone.
func (o Others) Altered(ctx context.Context, r prepare.Ready, target environment.Reader) ([]prepare.LeftOut, error) {
	if len(o.sums) == 0 {
		return nil, nil
	}
	now, err := o.read(ctx, r, target, func(string, record.Record) bool { return true })
	if err != nil {
		return nil, err
	}
	var out []prepare.LeftOut
	for _, id := range slices.Sorted(maps.Keys(o.sums)) {
		was := o.sums[id]
		if is, there := now[id]; there && is.sum == was.sum {
			continue
		}
		if out = append(out, prepare.LeftOut{Address: was.address, Why: prepare.ReadBackDiffers,
			Message: fmt.Sprintf("%s was not to be written and is another one afterwards; something in %s changes it when others are written. Decline what changes it, or change the two together by hand.",
				was.address, r.Model.Environment)}); len(out) == prepare.MaxFailures {
			break
		}
	}
	return out, nil
}
