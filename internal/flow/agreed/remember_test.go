package agreed

import (
	"anagram/internal/core/record"
)

var twoFields = []record.Field{{Name: "x", Kind: record.Text}, {Name: "y", Kind: record.Text}}

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
