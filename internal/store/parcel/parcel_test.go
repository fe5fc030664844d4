package parcel

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
	"anagram/internal/tests"
)

const testCatalog = "types:\n  unit: {key: [code]}\n"

var unitFields = []record.Field{{Name: "name", Kind: record.Text}, {Name: "sheet", Kind: record.Bytes}}

// write makes a parcel with three records, given out of order.
func write(t *testing.T, asFolder bool) string {
	t.Helper()
	return writeFor(t, filepath.Join(t.TempDir(), "p"), asFolder)
}

func writeFor(t testing.TB, path string, asFolder bool) string {
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
	for i := 0; i < len(whole); i += tests.Times(7, 1) {
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
		"a bomb":             {archive("parcel.json", strings.Repeat("0", 30<<20), "records/a.jsonl", ""), "it is larger than 8388608 bytes"},
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

// TestEntriesThatOverlapAreRefused has a ZIP whose entries share their bytes, so that a
// small file would unfold to any size.
func TestEntriesThatOverlapAreRefused(t *testing.T) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	names := []string{"parcel.json"}
	for i := range 40 {
		names = append(names, fmt.Sprintf("files/%064x", i))
	}
	for i, name := range names {
		w, err := z.Create(name)
		require.NoError(t, err)
		if i == 1 {
			random := make([]byte, 64<<10)
			_, _ = rand.Read(random)
			_, err = w.Write(random)
			require.NoError(t, err)
		}
	}
	require.NoError(t, z.Close())
	data := out.Bytes()
	var heads []int // of the central directory
	for at := 0; ; at++ {
		next := bytes.Index(data[at:], []byte("PK\x01\x02"))
		if next < 0 {
			break
		}
		at += next
		heads = append(heads, at)
	}
	require.Len(t, heads, len(names))
	for _, head := range heads[2:] { // sizes, checksum and place of the second entry
		copy(data[head+16:head+28], data[heads[1]+16:heads[1]+28])
		copy(data[head+42:head+46], data[heads[1]+42:heads[1]+46])
	}
	path := filepath.Join(t.TempDir(), "overlap.parcel")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	_, err := Open(path)
	assert.ErrorContains(t, err, "its entries overlap")
}

// forged makes a folder that is sealed as it should be, whatever its records are.
func forged(t *testing.T, records string, count int) string {
	path := write(t, true)
	r, err := Open(path)
	require.NoError(t, err)
	m := r.Manifest
	require.NoError(t, r.Close())
	for i := range m.Types {
		if m.Types[i].Name == "unit" {
			sum := sha256.Sum256([]byte(records))
			m.Types[i].Sum, m.Types[i].Records = Sum{Bytes: int64(len(records)), SHA256: hex.EncodeToString(sum[:])}, count
		}
	}
	text, err := encodeManifest(m)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(path, "records", "unit.jsonl"), []byte(records), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(path, "parcel.json"), text, 0o600))
	return path
}

// Whoever can write a parcel can seal it; its records are still not believed.
func TestRecordsOfASealedParcelAreChecked(t *testing.T) {
	deep := strings.Repeat("[", 10_000_000)
	for name, c := range map[string]struct {
		records string
		count   int
		why     string
	}{
		"ten million brackets":  {`{"key":["g"],"values":{"name":{"json":` + deep + "\n", 1, "nested deeper than"},
		"a lie about the count": {`{"key":["g"],"values":{}}` + "\n", 7, "it ends after 1 records, the manifest says 7"},
		"too many":              {`{"key":["g"],"values":{}}` + "\n" + `{"key":["h"],"values":{}}` + "\n", 1, "it ends after 2 records, the manifest says 1"},
		"out of order":          {`{"key":["h"],"values":{}}` + "\n" + `{"key":["g"],"values":{}}` + "\n", 2, "not in key order"},
		"cut":                   {`{"key":["g"],"val`, 1, "its last line has no end"},
		"a key of another form": {`{"key":[{"to":"unit"}],"values":{}}` + "\n", 1, "a text is expected"},
	} {
		r, err := Open(forged(t, c.records, c.count))
		require.NoError(t, err, name)
		require.NoError(t, r.Verify(context.Background()), name)
		start := time.Now()
		var last error
		for _, err := range r.Records(context.Background(), "unit") {
			last = err
		}
		require.Error(t, last, name)
		assert.Contains(t, last.Error(), c.why, name)
		assert.Contains(t, last.Error(), "records/unit.jsonl", name)
		assert.Less(t, time.Since(start), 5*time.Second, name)
		_ = r.Close()
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
