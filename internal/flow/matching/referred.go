package matching

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/parcel"
)

// mostDiffers is to how many findings the same caution is added; beyond, it is one on the
// whole docket.
const mostDiffers = 10

// referredBatch is how many records that are only referred to are looked up at a time.
const referredBatch = 500

// referredDiffers looks whether what findings refer to, and the parcel does not hold, is
// the same in the target.
func (m *matching) referredDiffers(ctx context.Context) error {
	var batch []parcel.Mention
	typ := ""
	flush := func() error {
		err := m.compareReferred(ctx, typ, batch)
		batch = nil
		return err
	}
	for mention, err := range m.parcel.Referred(ctx) {
		if err != nil {
			return err
		}
		of, _, _ := strings.Cut(mention.Address, "/")
		if len(mention.Sums) == 0 || m.env.Fit.Fields[of] == nil {
			continue
		}
		if of != typ || len(batch) == referredBatch {
			if err := flush(); err != nil {
				return err
			}
		}
		typ, batch = of, append(batch, mention)
	}
	return flush()
}

func (m *matching) compareReferred(ctx context.Context, typ string, batch []parcel.Mention) error {
	type wanted struct {
		parcel.Mention
		by []int64
	}
	about := map[string]wanted{}
	var keys []record.Key
	var fields []record.Field
	for _, mention := range batch {
		_, key, err := m.catalog.ParseAddress(m.model.Shapes, mention.Address)
		if err != nil {
			return err
		}
		by, err := m.builder.Needing(ctx, typ, key.Order(), mostDiffers+1)
		if err != nil {
			return err
		}
		if len(by) == 0 {
			continue
		}
		if fields == nil { // kinds as the source has them, so that the same gives the same
			for _, field := range m.env.Fit.Fields[typ] {
				word, _, _ := strings.Cut(mention.Sums[field.Name], " ")
				if kind, err := record.ParseKind(word); err == nil {
					field.Kind = kind
					fields = append(fields, field)
				}
			}
		}
		keys = append(keys, key)
		about[key.Order()] = wanted{mention, by}
	}
	if len(keys) == 0 || len(fields) == 0 {
		return nil
	}
	for rec, err := range m.env.Read(ctx, m.model, environment.Reading{Type: typ, Fields: fields, Keys: keys}) {
		if err != nil {
			return err
		}
		w := about[rec.Key.Order()]
		var differ []string
		for i, field := range fields {
			if sum := field.Kind.String() + " " + field.Sum(rec.Values[i]); sum != w.Sums[field.Name] {
				differ = append(differ, field.Name)
			}
		}
		if len(differ) == 0 {
			continue
		}
		if err := m.cautionReferred(ctx, w.Mention, w.by, differ); err != nil {
			return err
		}
	}
	return nil
}

func (m *matching) cautionReferred(ctx context.Context, mention parcel.Mention, by []int64, fields []string) error {
	source := m.parcel.Manifest.Source
	if len(by) > mostDiffers {
		c := check.Differs(fmt.Sprintf("More than %d records of this docket", mostDiffers), true, mention.Address, source, m.target, fields)
		m.whole = append(m.whole, c)
		return m.check(ctx, 0, c)
	}
	seen := map[int64]bool{}
	for _, id := range by {
		seen[id] = true
	}
	for _, id := range slices.Sorted(maps.Keys(seen)) {
		address, err := m.builder.AddressOf(ctx, id)
		if err != nil {
			return err
		}
		if err := m.check(ctx, id, check.Differs(address, false, mention.Address, source, m.target, fields)); err != nil {
			return err
		}
	}
	return nil
}
