package match

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

var fields = []record.Field{{Name: "name", Kind: record.Text}, {Name: "price", Kind: record.Text}}

func value(s string) record.Value {
	switch s {
	case "-":
		return record.AbsentValue()
	case "null":
		return record.NullValue()
	}
	v, _ := record.TextValue(s)
	return v
}

func rec(key string, values ...string) record.Record {
	r := record.Record{Key: record.NewKey([]record.Value{value(key)}, nil), ID: key + "'"}
	for _, v := range values {
		r.Values = append(r.Values, value(v))
	}
	return r
}

func stream(records []record.Record) record.Stream {
	return func(yield func(record.Record, error) bool) {
		for _, r := range records {
			if !yield(r, nil) {
				return
			}
		}
	}
}

func join(t *testing.T, source, target, agreed []record.Record) ([]Finding, Counts) {
	t.Helper()
	in := Input{Fields: fields, Source: stream(source), Target: stream(target),
		InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
	if agreed != nil {
		in.Agreed = stream(agreed)
	}
	var out []Finding
	counts, err := Join(in, func(f Finding) error { out = append(out, f); return nil })
	require.NoError(t, err)
	return out, counts
}

// Each row of the rules: source, target and agreed values of one record (fields name
// and price; "" is no such record, "?" is agreed values not known).
func TestEveryRowOfTheRules(t *testing.T) {
	one := func(cell string) []record.Record {
		if cell == "" || cell == "?" {
			return []record.Record{}
		}
		var name, price string
		_, err := fmt.Sscan(cell, &name, &price)
		require.NoError(t, err)
		return []record.Record{rec("K", name, price)}
	}
	for _, c := range []struct {
		what                   string
		source, target, agreed string
		status                 Status
		reasons                []Reason
		moved                  []Moved // of the fields that differ
	}{
		{"nothing differs", "a 1", "a 1", "?", Same, nil, nil},
		{"nothing differs, though both moved", "a 2", "a 2", "a 1", Same, nil, nil},
		{"differs, agreed unknown", "a 2", "a 1", "?", Changed, nil, []Moved{MovedUnknown}},
		{"both fields differ", "b 2", "a 1", "?", Changed, nil, []Moved{MovedUnknown, MovedUnknown}},
		{"source moved", "a 2", "a 1", "a 1", Changed, nil, []Moved{MovedSource}},
		{"target moved", "a 1", "a 2", "a 1", TargetEdit, nil, []Moved{MovedTarget}},
		{"both moved", "a 2", "a 3", "a 1", Conflict, []Reason{BothMoved}, []Moved{MovedBoth}},
		{"one field moved by either", "b 1", "a 2", "a 1", Changed, nil, []Moved{MovedSource, MovedTarget}},
		{"both moved wins", "b 2", "a 3", "a 1", Conflict, []Reason{BothMoved}, []Moved{MovedSource, MovedBoth}},
		{"not in target", "a 1", "", "?", New, nil, nil},
		{"not in target, never agreed", "a 1", "", "", New, nil, nil},
		{"not in target, agreed before", "a 1", "", "a 1", Conflict, []Reason{RemovedInTarget}, nil},
		{"not in source", "", "a 1", "?", TargetOnly, nil, nil},
		{"null is not the empty text", "a null", "a 1", "?", Changed, nil, []Moved{MovedUnknown}},
		{"a field that the source does not carry says nothing", "a -", "a 1", "?", Same, nil, nil},
		{"nor one that the target does not have", "a 1", "a -", "?", Same, nil, nil},
	} {
		var agreed []record.Record
		if c.agreed != "?" {
			agreed = one(c.agreed)
		}
		found, counts := join(t, one(c.source), one(c.target), agreed)
		assert.Equal(t, 1, counts.By[c.status], "%s: %v", c.what, counts)
		if c.status == Same {
			assert.Empty(t, found, c.what)
			continue
		}
		require.Len(t, found, 1, c.what)
		assert.Equal(t, c.reasons, found[0].Reasons, c.what)
		var moved []Moved
		for _, d := range found[0].Differences {
			moved = append(moved, d.Moved)
		}
		assert.Equal(t, c.moved, moved, c.what)
	}
}

func TestRecordsThatShareAKeyAreNeverMatched(t *testing.T) {
	found, counts := join(t, []record.Record{rec("A", "x", "1"), rec("A", "y", "1"), rec("B", "x", "1")},
		[]record.Record{rec("A", "x", "1"), rec("B", "x", "1"), rec("B", "x", "1")}, nil)
	require.Len(t, found, 2)
	for _, f := range found {
		assert.Equal(t, Conflict, f.Status)
		assert.Equal(t, []Reason{Ambiguous}, f.Reasons)
	}
	assert.Equal(t, []string{"A'", "A'"}, found[0].SourceIDs)
	assert.Equal(t, []string{"B'", "B'"}, found[1].TargetIDs)
	assert.Equal(t, 2, counts.By[Conflict])
}

func TestOutsideTheSelectionIsNotCompared(t *testing.T) {
	in := Input{Fields: fields, Source: stream([]record.Record{rec("B", "x", "1")}),
		Target:    stream([]record.Record{rec("A", "x", "1"), rec("B", "x", "2"), rec("C", "x", "1")}),
		InScope:   func(k record.Key) bool { return k.Parts()[0].Text() == "A" },
		Ambiguous: func(record.Key) bool { return false }}
	var statuses []Status
	counts, err := Join(in, func(f Finding) error { statuses = append(statuses, f.Status); return nil })
	require.NoError(t, err)
	assert.Equal(t, []Status{TargetOnly, Changed}, statuses)
	assert.Equal(t, 1, counts.NotCompared)
}

func TestAStreamThatIsNotInOrderIsAnError(t *testing.T) {
	wrong, right := []record.Record{rec("B", "x", "1"), rec("A", "x", "1")}, []record.Record{rec("A", "x", "1"), rec("B", "x", "1")}
	for _, c := range [][3][]record.Record{{wrong, nil, nil}, {nil, wrong, nil}, {right, right, wrong}, {nil, nil, wrong}, {right, nil, wrong}} {
		in := Input{Fields: fields, Source: stream(c[0]), Target: stream(c[1]), Agreed: stream(c[2]),
			InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
		_, err := Join(in, func(Finding) error { return nil })
		assert.ErrorContains(t, err, "not in key order", "%v", c)
	}
}

// Records of the target are completed only where they are not the source's own.
func TestOnlyWhatDiffersIsLoaded(t *testing.T) {
	line := func(r record.Record) []byte {
		return record.AppendLine(nil, fields, record.Record{Key: r.Key, Values: r.Values})
	}
	withLine := func(r record.Record) record.Record { r.Line = line(r); return r }
	loaded := []string{}
	lazy := func(full record.Record) record.Record {
		return record.Record{Key: record.KeyByOrder(full.Key.Order()), ID: full.ID, Line: line(full), Load: func(r *record.Record) error {
			loaded = append(loaded, full.ID)
			r.Key, r.Values, r.Load = full.Key, full.Values, nil
			return nil
		}}
	}
	found, counts := join(t,
		[]record.Record{withLine(rec("A", "x", "1")), withLine(rec("B", "x", "1")), withLine(rec("D", "x", "1")), withLine(rec("D", "x", "1"))},
		[]record.Record{lazy(rec("A", "x", "1")), lazy(rec("B", "x", "2")), lazy(rec("C", "x", "1")), lazy(rec("D", "x", "1"))}, nil)
	assert.Equal(t, []string{"B'", "C'", "D'"}, loaded)
	assert.Equal(t, map[Status]int{Same: 1, Changed: 1, TargetOnly: 1, Conflict: 1}, counts.By)
	assert.Equal(t, "C", found[1].Key.Parts()[0].Text(), "a key that was loaded has its parts")
	broken := lazy(rec("A", "y", "1"))
	broken.Load = func(*record.Record) error { return errors.New("cannot be read") }
	_, err := Join(Input{Fields: fields, Source: stream([]record.Record{withLine(rec("A", "x", "1"))}), Target: stream([]record.Record{broken}),
		InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}, func(Finding) error { return nil })
	assert.ErrorContains(t, err, "cannot be read")
}
