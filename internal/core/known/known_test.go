package known

import (
	"testing"

	"github.com/stretchr/testify/assert"

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

func was(key string, r *record.Record) *record.Record {
	k := textKey(key)
	r.Was = &k
	return r
}

func shownRecord(r *record.Record) []string {
	if r == nil {
		return nil
	}
	out := []string{r.Key.Parts()[0].Text()}
	for _, v := range r.Values {
		switch {
		case v.IsAbsent():
			out = append(out, "-")
		case v.IsNull():
			out = append(out, "~")
		default:
			out = append(out, v.Text())
		}
	}
	return out
}

func TestWhatBothSidesRemember(t *testing.T) {
	for _, c := range []struct {
		what                   string
		source, target, agreed *record.Record
		whole, apart           bool
		kept                   []string
	}{
		{"nobody has it", nil, nil, nil, false, false, nil},
		{"neither has it any more, and all was compared", nil, nil, rec("A", "1", "2"), true, false, nil},
		{"neither has it among what was compared", nil, nil, rec("A", "1", "2"), false, false, []string{"A", "1", "2"}},
		{"new in the source, never agreed", rec("A", "1", "2"), nil, nil, true, false, nil},
		{"removed in the target: what was agreed is kept, so that it stays a removal", rec("A", "1", "2"), nil, rec("A", "1",
			"9"), true, false, []string{"A", "1", "9"}},
		{"removed in the source", nil, rec("A", "1", "2"), rec("A", "1", "9"), true, false, []string{"A", "1", "9"}},
		{"only in the target, never agreed", nil, rec("A", "1", "2"), nil, true, false, nil},
		{"the same", rec("A", "1", "2"), rec("A", "1", "2"), nil, true, false, []string{"A", "1", "2"}},
		{"the same, agreed otherwise before", rec("A", "1", "2"), rec("A", "1", "2"), rec("A", "8", "9"), true, false, []string{"A", "1", "2"}},
		{"one field differs, nothing known", rec("A", "1", "2"), rec("A", "1", "3"), nil, true, false, []string{"A", "1", "-"}},
		{"one field differs, what was agreed stays", rec("A", "1", "2"), rec("A", "1", "3"), rec("A", "0", "9"), true, false,
			[]string{"A", "1", "9"}},
		{"all fields differ, nothing known: it was on both sides", rec("A", "1", "2"), rec("A", "3", "4"), nil, true, false, []string{"A", "-", "-"}},
		{"made on either side on its own", rec("A", "1", "2"), rec("A", "1", "4"), nil, true, true, nil},
		{"a field that one side does not carry says nothing", rec("A", "-", "2"), rec("A", "1", "2"), rec("A", "7", "7"), true, false,
			[]string{"A", "7", "2"}},
		{"null is a value", rec("A", "~", "2"), rec("A", "~", "3"), nil, true, false, []string{"A", "~", "-"}},
		{"under another key in the target, nothing agreed: by the target's key", rec("NEW", "1", "2"), was("OLD", rec("NEW",
			"1", "2")), nil, true, false, []string{"OLD", "1", "2"}},
		{"under another key, agreed by the old one", rec("NEW", "1", "2"), was("OLD", rec("NEW", "1", "2")), was("OLD",
			rec("NEW", "1", "9")), true, false, []string{"OLD", "1", "2"}},
		{"renamed in the target after both agreed on the source's key", rec("NEW", "1", "2"), was("OLD", rec("NEW", "1", "2")),
			rec("NEW", "1", "2"), true, false, []string{"NEW", "1", "2"}},
		{"both have the new key by now", rec("NEW", "1", "2"), rec("NEW", "1", "2"), was("OLD", rec("NEW", "1", "2")), true, false,
			[]string{"NEW", "1", "2"}},
		{"gone in the source, agreed under another key", nil, rec("OLD", "1", "2"), was("OLD", rec("NEW", "1", "2")), true, false,
			[]string{"OLD", "1", "2"}},
	} {
		got := Match{Fields: twoFields, Compared: 2, Docket: 4, At: "T"}.After(c.whole, c.apart, c.source, c.target, c.agreed)
		assert.Equal(t, c.kept, shownRecord(got), c.what)
	}
}

func TestFieldsThatAreNotComparedNowStayAgreed(t *testing.T) {
	got := Match{Fields: twoFields, Compared: 1}.After(true, false, rec("A", "1"), rec("A", "1"), rec("A", "5", "kept"))
	assert.Equal(t, []string{"A", "1", "kept"}, shownRecord(got))
	got = Match{}.After(true, false, rec("A"), rec("A"), nil)
	assert.Equal(t, []string{"A"}, shownRecord(got), "a record without fields is agreed on as such")
}
