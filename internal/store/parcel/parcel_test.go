package parcel

import (
	"archive/zip"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

const testCatalog = "types:\n  unit: {key: [code]}\n"

var unitFields = []record.Field{{Name: "name", Kind: record.Text}, {Name: "sheet", Kind: record.Bytes}}

// write makes a parcel with three records, given out of order.
func write(t *testing.T, asFolder bool) string {
	t.Helper()
	w, err := Create(t.TempDir(), Manifest{Name: "p", Source: "sandbox", Keys: record.Shapes{"unit": {{Name: "code", Kind: record.Text}}}}, []byte(testCatalog))
	require.NoError(t, err)
	defer w.Discard()
	unit := w.Type("unit", unitFields)
	for _, code := range []string{"mg", "g", "kg"} {
		key, _ := record.TextValue(code)
		require.NoError(t, unit.Add(record.Record{Key: record.NewKey([]record.Value{key}, nil), Values: []record.Value{key, record.BytesValue([]byte(strings.Repeat("sheet of "+code, 50)))}}))
	}
	n, err := unit.Finish(true)
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	path := filepath.Join(t.TempDir(), "p")
	_, err = w.Finish(path, asFolder)
	require.NoError(t, err)
	return path
}

func TestAParcelReadsBackInBothForms(t *testing.T) {
	for _, asFolder := range []bool{false, true} {
		path := write(t, asFolder)
		r, err := Open(path)
		require.NoError(t, err)
		require.NoError(t, r.Verify(context.Background()))
		var codes []string
		for rec, err := range r.Records(context.Background(), "unit") {
			require.NoError(t, err)
			codes = append(codes, rec.Key.Parts()[0].Text())
			in, err := rec.Values[1].Content().Open()
			require.NoError(t, err)
			var text bytes.Buffer
			_, err = text.ReadFrom(in)
			require.NoError(t, err)
			assert.Equal(t, strings.Repeat("sheet of "+codes[len(codes)-1], 50), text.String())
			require.NoError(t, in.Close())
		}
		assert.Equal(t, []string{"g", "kg", "mg"}, codes)
		require.NoError(t, r.Close())
	}
}

// Every single byte counts, in the ZIP's own structure as well.
func TestOneFlippedByteIsNoticed(t *testing.T) {
	whole, err := os.ReadFile(write(t, false))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "flipped.parcel")
	for i := range whole {
		flipped := bytes.Clone(whole)
		flipped[i] ^= 0x20
		require.NoError(t, os.WriteFile(path, flipped, 0o600))
		r, err := Open(path)
		if err == nil {
			err = r.Verify(context.Background())
			_ = r.Close()
		}
		require.Error(t, err, "byte %d of %d", i, len(whole))
		require.Contains(t, err.Error(), path)
	}
}

func TestAFlippedByteInAFolderNamesItsFile(t *testing.T) {
	for _, name := range []string{"parcel.json", "catalog.yaml", "records/unit.jsonl"} {
		path := write(t, true)
		file := filepath.Join(path, name)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		text[len(text)/2] ^= 1
		require.NoError(t, os.WriteFile(file, text, 0o600))
		r, err := Open(path)
		if err == nil {
			err = r.Verify(context.Background())
			_ = r.Close()
		}
		var broken *Error
		require.ErrorAs(t, err, &broken)
		assert.Equal(t, name, broken.File)
		assert.True(t, broken.Broken)
	}
}

func TestHostileParcels(t *testing.T) {
	archive := func(entries ...string) string { // name, content, name, content
		path := filepath.Join(t.TempDir(), "hostile.parcel")
		f, err := os.Create(path)
		require.NoError(t, err)
		z := zip.NewWriter(f)
		for i := 0; i < len(entries); i += 2 {
			out, err := z.Create(entries[i])
			require.NoError(t, err)
			_, err = out.Write([]byte(entries[i+1]))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		require.NoError(t, f.Close())
		return path
	}
	file := func(content string) string {
		path := filepath.Join(t.TempDir(), "file.parcel")
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		return path
	}
	whole, err := os.ReadFile(write(t, false))
	require.NoError(t, err)
	linked := write(t, true)
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(linked, "records", "link.jsonl")))
	for name, c := range map[string]struct{ path, why string }{
		"nothing there":      {filepath.Join(t.TempDir(), "none"), "no such parcel"},
		"empty":              {file(""), "the file is empty"},
		"not a ZIP":          {file("hello, this is text"), "a parcel is a ZIP file or a folder"},
		"cut short":          {file(string(whole[:len(whole)/2])), "cut short"},
		"an empty ZIP":       {archive(), "no parcel.json"},
		"a path outside":     {archive("parcel.json", "{}", "../outside", "x"), "leads outside"},
		"an absolute path":   {archive("/etc/passwd", "x"), "leads outside"},
		"a stranger":         {archive("parcel.json", "{}", "run.exe", "x"), "does not belong"},
		"double entries":     {archive("parcel.json", "{}", "parcel.json", "{}"), "twice"},
		"a bomb":             {archive("parcel.json", strings.Repeat("0", 30<<20), "records/a.jsonl", ""), "it is not JSON"},
		"not JSON":           {archive("parcel.json", "hello"), "not JSON"},
		"another format":     {archive("parcel.json", `{"format":"something","version":1}`), `format "something"`},
		"an unknown version": {archive("parcel.json", `{"format":"anagram parcel","version":2}`), "version 2"},
		"never sealed":       {archive("parcel.json", `{"format":"anagram parcel","version":1}`), "not those that were sealed"},
		"a link":             {linked, "link"},
	} {
		_, err := Open(c.path)
		if assert.Error(t, err, name) {
			assert.Contains(t, err.Error(), c.why, name)
			assert.Contains(t, err.Error(), c.path, name)
		}
	}
}

func TestANameIsNeverTakenTwice(t *testing.T) {
	path := write(t, false)
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, asFolder := range []bool{false, true} {
		w, err := Create(t.TempDir(), Manifest{Name: "p"}, []byte(testCatalog))
		require.NoError(t, err)
		_, err = w.Finish(path, asFolder)
		var exists *ExistsError
		require.ErrorAs(t, err, &exists)
	}
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), "x.parcel")
		require.NoError(t, os.WriteFile(path, data, 0o600))
		if r, err := Open(path); err == nil {
			_ = r.Verify(context.Background())
			_ = r.Close()
		}
	})
}
