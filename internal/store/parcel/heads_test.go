package parcel

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// TestHeadsAreTheKeysOfRecords reads a parcel both ways: keys first and the rest on
// demand, or whole.
func TestHeadsAreTheKeysOfRecords(t *testing.T) {
	shapes := record.Shapes{"unit": {{Name: "code", Kind: record.Text}}, "part": {{Name: "unit", Kind: record.Reference, Refers: "unit"}, {Name: "n", Kind: record.Integer}}}
	fields := []record.Field{{Name: "name", Kind: record.Text}, {Name: "extra", Kind: record.JSON}}
	w, err := Create(t.TempDir(), Manifest{Name: "p", Source: "s", Keys: shapes}, []byte("types:\n  unit: {key: [code]}\n  part: {key: [unit, n], refers: {unit: unit}}\n"))
	require.NoError(t, err)
	defer w.Discard()
	parse := func(kind record.Kind, text string) record.Value {
		v, err := record.Parse(kind, text)
		require.NoError(t, err)
		return v
	}
	out, err := w.InOrder("part", fields)
	require.NoError(t, err)
	for i := range 200 {
		unit := shapes.Key("unit", []record.Value{parse(record.Text, fmt.Sprintf("%03d \"]} odd", i/3))})
		key := shapes.Key("part", []record.Value{record.ReferenceValue("unit", unit), record.IntegerValue(int64(i % 3))})
		require.NoError(t, out.Add(record.Record{Key: key, Values: []record.Value{parse(record.Text, `},"key":[`), parse(record.JSON, `{"key":[[1]]}`)}, Came: record.Came{Why: WhyChosen}}))
	}
	last := shapes.Key("part", []record.Value{record.NullValue(), record.IntegerValue(0)})
	assert.ErrorContains(t, out.Add(record.Record{Key: last, Values: []record.Value{record.NullValue(), record.NullValue()}}), "not in key order")
	n, err := out.Finish(true)
	require.NoError(t, err)
	assert.Equal(t, 200, n)
	path := filepath.Join(t.TempDir(), "p.parcel")
	_, err = w.Finish(path, false)
	require.NoError(t, err)

	r, err := Open(path)
	require.NoError(t, err)
	defer r.Close()
	ctx := context.Background()
	var whole []record.Record
	for rec, err := range r.Records(ctx, "part") {
		require.NoError(t, err)
		whole = append(whole, rec)
	}
	i := 0
	for head, err := range r.Heads(ctx, "part") {
		require.NoError(t, err)
		require.NotNil(t, head.Load, "only the key is read")
		require.Nil(t, head.Values)
		require.Equal(t, whole[i].Key.Order(), head.Key.Order())
		require.NoError(t, head.Load(&head))
		require.Nil(t, head.Load)
		require.Equal(t, string(record.AppendLine(nil, fields, whole[i])), string(record.AppendLine(nil, fields, head)))
		i++
	}
	assert.Equal(t, len(whole), i)
	for range r.Heads(ctx, "part") {
		break // who stops early leaves nothing behind
	}
	count := 0
	for range r.Records(ctx, "none") {
		count++
	}
	assert.Zero(t, count, "a type that is not in the parcel has no records")
}

func TestWhatIsOnlyMentionedIsListed(t *testing.T) {
	w, err := Create(t.TempDir(), Manifest{Name: "p", Source: "s", Keys: record.Shapes{"unit": {{Name: "code", Kind: record.Text}}}}, []byte(testCatalog))
	require.NoError(t, err)
	defer w.Discard()
	want := []Mention{{Address: "unit/g", Through: "assay/A unit"}, {Address: "unit/mg", Through: "assay/B unit", Sums: map[string]string{"name": "text 0123"}}}
	rest := want
	require.NoError(t, w.Referred(func() (Mention, bool, error) {
		if len(rest) == 0 {
			return Mention{}, false, nil
		}
		m := rest[0]
		rest = rest[1:]
		return m, true, nil
	}))
	path := filepath.Join(t.TempDir(), "p.parcel")
	_, err = w.Finish(path, false)
	require.NoError(t, err)
	r, err := Open(path)
	require.NoError(t, err)
	defer r.Close()
	require.NoError(t, r.Verify(context.Background()))
	var got []Mention
	for m, err := range r.Referred(context.Background()) {
		require.NoError(t, err)
		got = append(got, m)
	}
	assert.Equal(t, want, got)
	size, err := Size(path)
	require.NoError(t, err)
	assert.Positive(t, size)
}

func TestAParcelSaysWhatItHoldsAndAttachmentsMayBeLeftOut(t *testing.T) {
	for _, asFolder := range []bool{false, true} {
		w, err := Create(t.TempDir(), Manifest{Name: "p", Keys: record.Shapes{"unit": {{Name: "code", Kind: record.Text}}}}, []byte(testCatalog))
		require.NoError(t, err)
		defer w.Discard()
		w.LeaveFilesOut()
		left := w.Type("unit", unitFields)
		left.Discard()
		unit := w.Type("unit", unitFields)
		key, _ := record.TextValue("mg")
		require.NoError(t, unit.Add(record.Record{Key: record.NewKey([]record.Value{key}, nil), Came: record.Came{Why: WhyChosen}, Values: []record.Value{key, record.BytesValue([]byte("sheet"))}}))
		_, err = unit.Finish(false)
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "p.parcel")
		_, err = w.Finish(path, asFolder)
		require.NoError(t, err)
		assert.True(t, Exists(path))
		assert.False(t, Exists(path+"x"))
		size, err := Size(path)
		require.NoError(t, err)
		assert.Positive(t, size)
		r, err := Open(path)
		require.NoError(t, err)
		require.NoError(t, r.Verify(context.Background()))
		assert.Equal(t, []any{path, 1, 1}, []any{r.Path(), r.Manifest.Records(), r.Manifest.Chosen()})
		for rec, err := range r.Records(context.Background(), "unit") {
			require.NoError(t, err)
			_, err = rec.Values[1].Content().Open()
			assert.Error(t, err, "attachments were left out")
		}
		require.NoError(t, r.Close())
	}
}
