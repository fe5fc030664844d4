package catalog

import (
	"slices"
	"strings"
	"time"

	"anagram/internal/core/record"
)

// Stamps: what an application writes down of when and by whom a record was changed, and
// what an import writes in its place.

// Stamped lists the stamps of a type that the import gives a new record: those that are in
// a place, that nothing is known to fill, and of which it is known what to write.
func (t *Type) Stamped(place Place, environment, who string) []Column {
	var out []Column
	if t.StampNever {
		return nil
	}
	for _, name := range []string{t.StampAt, t.StampBy, t.CreatedAt, t.CreatedBy} {
		column, ok := place.Column(name)
		twice := slices.ContainsFunc(out, func(c Column) bool { return c.Name == name })
		if !ok || name == "" || twice || column.Default || column.Derived || slices.Contains(place.Triggered, name) {
			continue
		}
		if _, ok := t.Stamp(column, environment, who, time.Unix(0, 0)); ok {
			out = append(out, column)
		}
	}
	return out
}

// IsPerson reports whether a stamp says who changed a record, not when.
func (t *Type) IsPerson(stamp string) bool { return stamp == t.StampBy || stamp == t.CreatedBy }

// Signature is how a person stands in the stamps of a type: by name, or, where the environment keeps
// people as records, by the id that was found for them, "" where none was.
func (t *Type) Signature(name string, ids map[string]string) string {
	if t.StampPerson.At != "" {
		return ids[t.Name]
	}
	return name
}

// Unsigned tells whether an import cannot write who changed a record, or made it, though the type
// keeps that in a column of the place; sure says that nothing in the place fills it either.
func (t *Type) Unsigned(place Place, environment, signature string, adds bool) (column string, sure, unsigned bool) {
	c, there := place.Column(t.StampBy)
	if !there || t.StampBy == "" || t.StampNever || c.Derived {
		return "", false, false
	}
	if _, known := t.Stamp(c, environment, signature, time.Unix(0, 0)); known {
		return "", false, false
	}
	if adds {
		return c.Name, !c.Default && !place.HasTriggers && !slices.Contains(place.Triggered, c.Name), true
	}
	return c.Name, place.Quiet, true
}

// Stamp gives what an import by a person, told by their signature, writes into a stamp at a moment,
// in the zone of that moment where the column has none. ok is false where it is not known.
func (t *Type) Stamp(column Column, environment, who string, at time.Time) (v record.Value, ok bool) {
	var err error
	switch {
	case t.IsPerson(column.Name):
		if t.StampPerson.At != "" && who != "" { // an id that was found
			if v, err = record.Parse(column.Kind, who); err == nil {
				return v, true
			}
		}
		if account, ok := t.StampAccount[environment]; ok {
			v, err = record.TextValue(account)
			return v, err == nil
		}
		if t.StampPerson.At != "" {
			return v, false
		}
		most := column.Limits.Characters
		if column.Kind != record.Text || who == "" || most > 0 && len([]rune(who)) > most {
			return v, false
		}
		v, err = record.TextValue(who)
	case column.Kind == record.Timestamp:
		v, err = record.Parse(record.Timestamp, at.UTC().Truncate(precision(column)).Format(time.RFC3339Nano))
	case column.Kind == record.LocalTimestamp || column.Kind == record.Text:
		v, err = record.Parse(record.LocalTimestamp, at.Truncate(precision(column)).Format("2006-01-02T15:04:05.999999"))
	case column.Kind == record.Date:
		v, err = record.Parse(record.Date, at.Format(time.DateOnly))
	default:
		return v, false
	}
	return v, err == nil
}

// precision is the least step of a column of times.
func precision(c Column) time.Duration {
	word := strings.ToLower(c.Declared)
	if _, digits, ok := strings.Cut(word, "("); ok && len(digits) > 0 && digits[0] >= '0' && digits[0] <= '6' {
		step := time.Second
		for range digits[0] - '0' {
			step /= 10
		}
		return step
	}
	if strings.HasPrefix(word, "timestamp with") { // PostgreSQL keeps microseconds
		return time.Microsecond
	}
	return time.Second
}
