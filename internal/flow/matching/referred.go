package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/parcel"
)

const (
	// mostDiffers is to how many findings the same caution is added; beyond, it is one on the
	// whole docket.
	mostDiffers = 10
	// referredBatch is how many records that are only referred to are looked up at a time.
	referredBatch = 500
)

// referredDiffers looks whether what findings refer to, and the parcel does not hold, is
// the same in the target.
func referredDiffers(ctx context.Context, c compared, out *sink) error {
	var batch []parcel.Mention
	typ := ""
	for mention, err := range c.referred(ctx) {
		if err != nil {
			return err
		}
		of, _, _ := strings.Cut(mention.Address, "/")
		if len(mention.Sums) == 0 || c.env.Fit.Fields[of] == nil {
			continue
		}
		if of != typ || len(batch) == referredBatch {
			if err := compareReferred(ctx, c, typ, batch, out); err != nil {
				return err
			}
			batch = nil
		}
		typ, batch = of, append(batch, mention)
	}
	return compareReferred(ctx, c, typ, batch, out)
}

// mentioned is a record that is only referred to, and the findings that do.
type mentioned struct {
	parcel.Mention
	by []int64
}

func compareReferred(ctx context.Context, c compared, typ string, batch []parcel.Mention, out *sink) error {
	about := map[string]mentioned{}
	var keys []record.Key
	var fields []record.Field
	for _, mention := range batch {
		_, key, err := c.catalog.ParseAddress(c.model.Shapes, mention.Address)
		if err != nil {
			return err
		}
		by, err := out.builder.Needing(ctx, typ, key.Order(), mostDiffers+1)
		if err != nil {
			return err
		}
		if len(by) == 0 {
			continue
		}
		if fields == nil {
			fields = asSummed(c.env.Fit.Fields[typ], mention.Sums)
		}
		keys = append(keys, key)
		about[key.Order()] = mentioned{mention, by}
	}
	if len(keys) == 0 || len(fields) == 0 {
		return nil
	}
	for rec, err := range c.reader.Read(ctx, c.model, environment.Reading{Type: typ, Fields: fields, Keys: keys}) {
		if err != nil {
			return err
		}
		m := about[rec.Key.Order()]
		var differ []string
		for i, field := range fields {
			if sum := field.Kind.String() + " " + field.Sum(rec.Values[i]); sum != m.Sums[field.Name] {
				differ = append(differ, field.Name)
			}
		}
		if len(differ) == 0 {
			continue
		}
		cautionReferred(c, m, differ, out)
	}
	return out.err
}

// asSummed gives the fields of which there are sums, with the kinds that the source has,
// so that the same gives the same.
func asSummed(fields []record.Field, sums map[string]string) []record.Field {
	var out []record.Field
	for _, field := range fields {
		word, _, _ := strings.Cut(sums[field.Name], " ")
		if kind, err := record.ParseKind(word); err == nil {
			field.Kind = kind
			out = append(out, field)
		}
	}
	return out
}

func cautionReferred(c compared, m mentioned, fields []string, out *sink) {
	if len(m.by) > mostDiffers {
		out.onDocket(check.Differs(fmt.Sprintf("More than %d records of this docket", mostDiffers), true, m.Address, c.source,
			c.target, fields))
		return
	}
	slices.Sort(m.by)
	for _, id := range slices.Compact(m.by) {
		out.check(id, check.Differs(out.addressOf(id), false, m.Address, c.source, c.target, fields))
	}
}
