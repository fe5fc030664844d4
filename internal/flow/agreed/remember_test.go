package agreed

import (
	"anagram/internal/core/record"
)

var twoFields = []record.Field{{Name: "x", Kind: record.Text}, {Name: "y", Kind: record.Text}}

// rec makes a record from its key and values; "-" is absent and "~" is null.
func rec(key string, values ...string) *record.Record {
	r := &record.Record{Key: textKey(key)}
	for _, v := range values {
		r.Values = append(r.Values, textOr(v))
	}
	return r
}

func textOr(s string) record.Value {
	switch s {
	case "-":
		return record.AbsentValue()
	case "~":
		return record.NullValue()
	}
	v, err := record.TextValue(s)
	if err != nil {
		panic(err)
	}
	return v
}

func textKey(s string) record.Key { return record.NewKey([]record.Value{textOr(s)}, nil) }
