package match

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// standing is a record that stands under another key on its side.
func standing(was string, r record.Record) record.Record {
	key := record.NewKey([]record.Value{value(was)}, nil)
	r.Was = &key
	return r
}

func TestARecordUnderAnotherKeyDiffersInItsKey(t *testing.T) {
	keys := []record.Field{{Name: "code", Kind: record.Text}}
	agreed := func(r record.Record) *record.Record { return &r }
	for _, c := range []struct {
		what           string
		source, target record.Record
		agreed         *record.Record
		status         Status
		fields         []string // key: or name of each difference, with the side that moved
	}{
		{"nothing known", rec("NEW", "a", "1"), standing("OLD", rec("NEW", "a", "1")), nil, Changed, []string{"key:code "}},
		{"the source renamed it", rec("NEW", "a", "1"), standing("OLD", rec("NEW", "a", "1")), agreed(standing("OLD", rec("NEW", "a", "1"))), Changed, []string{"key:code source"}},
		{"the target renamed it", rec("NEW", "a", "1"), standing("OLD", rec("NEW", "a", "1")), agreed(rec("NEW", "a", "1")), TargetEdit, []string{"key:code target"}},
		{"both renamed it", rec("NEW", "a", "1"), standing("OLD", rec("NEW", "a", "1")), agreed(standing("FIRST", rec("NEW", "a", "1"))), Conflict, []string{"key:code both"}},
		{"renamed by one, changed by the other", rec("NEW", "a", "1"), standing("OLD", rec("NEW", "a", "2")), agreed(standing("OLD", rec("NEW", "a", "1"))), Changed, []string{"key:code source", "price target"}},
	} {
		in := Input{Fields: fields, Keys: keys, Source: stream([]record.Record{c.source}), Target: stream([]record.Record{c.target}),
			InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
		if c.agreed != nil {
			in.Agreed = stream([]record.Record{*c.agreed})
		}
		var found []Finding
		_, err := Join(in, func(f Finding) error { found = append(found, f); return nil })
		require.NoError(t, err, c.what)
		require.Len(t, found, 1, c.what)
		assert.Equal(t, c.status, found[0].Status, c.what)
		var got []string
		for _, d := range found[0].Differences {
			name := fields[d.Field].Name
			if d.Key {
				name = "key:" + keys[d.Field].Name
			}
			got = append(got, name+" "+string(d.Moved))
		}
		assert.Equal(t, c.fields, got, c.what)
	}
}

// The same line on both sides is not the same record where it stands under another key.
func TestTheSameLineUnderAnotherKeyIsADifference(t *testing.T) {
	source, target := rec("NEW", "a", "1"), standing("OLD", rec("NEW", "a", "1"))
	source.Line, target.Line = []byte("line"), []byte("line")
	in := Input{Fields: fields, Keys: []record.Field{{Name: "code", Kind: record.Text}}, Source: stream([]record.Record{source}), Target: stream([]record.Record{target}),
		InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
	counts, err := Join(in, func(Finding) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, 1, counts.By[Changed])
}

func TestAgreedValuesFromAfterTheSourceTellOnlyThatTheTargetHadIt(t *testing.T) {
	in := Input{Fields: fields, AgreedLater: true, Source: stream([]record.Record{rec("A", "a", "1"), rec("B", "b", "1"), rec("C", "c", "1")}),
		Target: stream([]record.Record{rec("A", "a", "2")}), Agreed: stream([]record.Record{rec("A", "a", "2"), rec("B", "b", "1")}),
		InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
	var got []string
	_, err := Join(in, func(f Finding) error {
		text := string(f.Status)
		for _, d := range f.Differences {
			text += " " + fields[d.Field].Name + ":" + string(d.Moved)
		}
		for _, reason := range f.Reasons {
			text += " " + string(reason)
		}
		got = append(got, text)
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"changed price:", "conflict removed-in-target", "new"}, got)
}

// Agreed records are completed only where they are needed.
func TestAgreedRecordsAreLoadedOnlyWhereSomethingDiffers(t *testing.T) {
	loaded := 0
	lazy := func(key string, values ...string) record.Record {
		full := rec(key, values...)
		return record.Record{Key: full.Key, Load: func(r *record.Record) error { loaded++; r.Values, r.Load = full.Values, nil; return nil }}
	}
	same := rec("A", "a", "1")
	same.Line = []byte("A")
	in := Input{Fields: fields, Source: stream([]record.Record{same, rec("B", "b", "2")}), Target: stream([]record.Record{same, rec("B", "b", "1")}),
		Agreed: stream([]record.Record{lazy("A", "a", "1"), lazy("B", "b", "1")}), InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
	var moved []Moved
	_, err := Join(in, func(f Finding) error { moved = append(moved, f.Differences[0].Moved); return nil })
	require.NoError(t, err)
	assert.Equal(t, []Moved{MovedSource}, moved)
	assert.Equal(t, 1, loaded)
}
