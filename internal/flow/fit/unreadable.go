package fit

import (
	"fmt"

	"anagram/internal/core/record"
	"anagram/internal/core/show"
)

// unreadable counts what of a type cannot be read, each with the first of its kind.
type unreadable struct {
	records, keys int
	record, id    string
}

func (u *unreadable) key(id, why string) error {
	if u.keys++; u.keys == 1 {
		u.id = fmt.Sprintf("internal id %s: %s", id, why)
	}
	return nil
}

func (u *unreadable) values(fields []record.Field, address string, rec record.Record) {
	for i, v := range rec.Values {
		if why, ok := v.Unreadable(); ok {
			if u.records++; u.records == 1 {
				u.record = fmt.Sprintf("%s, field %s: %s", address, fields[i].Name, why)
			}
			return
		}
	}
}

func (u *unreadable) messages() (out []string) {
	if u.keys > 0 {
		out = append(out, fmt.Sprintf("%s that cannot be read, such as that with %s; they are in no parcel", show.Count(u.keys,
			"record has a key", "records have a key"), u.id))
	}
	if u.records > 0 {
		out = append(out, fmt.Sprintf("%s that cannot be read, such as %s; they cannot be approved", show.Count(u.records,
			"record has a value", "records have a value"), u.record))
	}
	return out
}
