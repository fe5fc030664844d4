package parcel

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func TestKeysThatTheSourceLeavesOut(t *testing.T) {
	ctx := context.Background()
	shapes := record.Shapes{"unit": {{Name: "code", Kind: record.Text}}}
	key := func(code string) record.Key {
		v, err := record.TextValue(code)
		require.NoError(t, err)
		return shapes.Key("unit", []record.Value{v})
	}
	make := func(folder bool, codes ...string) string {
		w, err := Create(t.TempDir(), Manifest{Name: "p", Source: "s", Keys: shapes}, []byte("types:\n  unit: {key: [code]}\n"))
		require.NoError(t, err)
		defer w.Discard()
		o := w.Outside("unit")
		defer o.Discard()
		for _, code := range codes {
			require.NoError(t, o.Add(key(code)))
		}
		require.NoError(t, o.Finish())
		path := filepath.Join(t.TempDir(), "p")
		_, err = w.Finish(path, folder)
		require.NoError(t, err)
		return path
	}
	for _, folder := range []bool{true, false} {
		r, err := Open(make(folder, "b", "a", "b", "c"))
		require.NoError(t, err)
		require.NoError(t, r.Verify(ctx))
		var got []string
		for k, err := range r.Outside(ctx, "unit") {
			require.NoError(t, err)
			got = append(got, k.Parts()[0].Text())
		}
		assert.Equal(t, []string{"a", "b", "c"}, got)
		for range r.Outside(ctx, "other") {
			t.Fatal("nothing is outside of another type")
		}
		require.NoError(t, r.Close())
	}
	path := make(true, "a", "b")
	for content, why := range map[string]string{"[\"a\"]\n": "it ends after 1 keys", "hello\n": "line 1", "[\"a\"]\n[\"b\"]\n[\"c\"]": "line 3"} {
		require.NoError(t, os.WriteFile(filepath.Join(path, "outside", "unit.jsonl"), []byte(content), 0o600))
		r, err := Open(path)
		require.NoError(t, err)
		assert.Error(t, r.Verify(ctx))
		var last error
		for _, err := range r.Outside(ctx, "unit") {
			last = err
		}
		assert.ErrorContains(t, last, why)
		require.NoError(t, r.Close())
	}
	require.NoError(t, os.Remove(filepath.Join(path, "outside", "unit.jsonl")))
	r, err := Open(path)
	require.NoError(t, err)
	for _, err := range r.Outside(ctx, "unit") {
		assert.ErrorContains(t, err, "the file is missing")
	}
	empty, err := Open(make(true))
	require.NoError(t, err)
	assert.Empty(t, empty.Manifest.Outside)
}
