package parcel

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// lines reads all records of a parcel, each twice: as heads that are completed, and whole.
// Where both fail it gives the error.
func lines(t *testing.T, r *Reader) (map[string][]string, error) {
	t.Helper()
	out := map[string][]string{}
	for _, typ := range r.Manifest.Types {
		var heads []string
		for rec, err := range r.Heads(context.Background(), typ.Name) {
			if err == nil && rec.Load != nil {
				err = rec.Load(&rec)
			}
			if err != nil {
				heads = nil
				break
			}
			heads = append(heads, string(record.AppendLine(nil, typ.Fields, rec)))
		}
		for rec, err := range r.Records(context.Background(), typ.Name) {
			if err != nil {
				return nil, err
			}
			out[typ.Name] = append(out[typ.Name], string(record.AppendLine(nil, typ.Fields, rec)))
		}
		require.Equal(t, len(out[typ.Name]), len(heads))
	}
	return out, nil
}

// rewritten makes a new parcel out of the records of one.
func rewritten(t *testing.T, r *Reader, asFolder bool) *Reader {
	t.Helper()
	w, err := Create(t.TempDir(), Manifest{Name: "p", Keys: r.Manifest.Keys}, r.Catalog.Source)
	require.NoError(t, err)
	defer w.Discard()
	w.LeaveFilesOut()
	for _, typ := range r.Manifest.Types {
		out := w.Type(typ.Name, typ.Fields)
		for rec, err := range r.Records(context.Background(), typ.Name) {
			require.NoError(t, err)
			require.NoError(t, out.Add(rec))
		}
		_, err = out.Finish(false)
		require.NoError(t, err)
	}
	path := filepath.Join(t.TempDir(), "again")
	_, err = w.Finish(path, asFolder)
	require.NoError(t, err)
	again, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = again.Close() })
	require.NoError(t, again.Verify(context.Background()))
	return again
}

// FuzzOpen opens anything as a parcel file: what can be verified can be read.
func FuzzOpen(f *testing.F) {
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte{})
	path, err := os.MkdirTemp("", "seed")
	require.NoError(f, err)
	defer os.RemoveAll(path)
	whole := writeFor(f, filepath.Join(path, "p"), false)
	data, err := os.ReadFile(whole)
	require.NoError(f, err)
	f.Add(data)
	f.Add(data[:len(data)-30])
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), "x.parcel")
		require.NoError(t, os.WriteFile(path, data, 0o600))
		r, err := Open(path)
		if err != nil {
			return
		}
		defer r.Close()
		if r.Verify(context.Background()) != nil {
			return
		}
		before, err := lines(t, r)
		if err != nil {
			return
		}
		after, err := lines(t, rewritten(t, r, false))
		require.NoError(t, err)
		require.Equal(t, before, after)
	})
}

// FuzzRecords seals anything as the records of a parcel: what is read can be written, and
// reads as the same.
func FuzzRecords(f *testing.F) {
	folder, err := os.MkdirTemp("", "seed")
	require.NoError(f, err)
	defer os.RemoveAll(folder)
	real, err := os.ReadFile(filepath.Join(writeFor(f, filepath.Join(folder, "p"), true), "records", "unit.jsonl"))
	require.NoError(f, err)
	f.Add(real)
	f.Add([]byte("{\"key\":[\"a\"],\"values\":{\"name\":null,\"sheet\":null}}\n{\"key\":[\"b\"],\"values\":{\"name\":\"\\u0000\"}}\n"))
	f.Add([]byte("{\"key\":[\"b\"],\"values\":{}}\n{\"key\":[\"a\"],\"values\":{}}\n"))
	f.Add([]byte("{\"key\":[\"a\"],\"values\":{}}\n{\"key\":[\"a\"],\"values\":{},\"why\":\"owner\"}"))
	fields := []record.Field{{Name: "name", Kind: record.Text}, {Name: "n", Kind: record.Decimal}, {Name: "rule", Kind: record.JSON}}
	f.Fuzz(func(t *testing.T, records []byte) {
		dir := t.TempDir()
		sum := func(data []byte) Sum {
			s := sha256.Sum256(data)
			return Sum{Bytes: int64(len(data)), SHA256: hex.EncodeToString(s[:])}
		}
		m := Manifest{Format: Format, Version: Version, Name: "p", ID: "x", Keys: record.Shapes{"unit": {{Name: "code", Kind: record.Text}}},
			Catalog: sum([]byte(testCatalog)), Files: []Sum{},
			Types: []Type{{Name: "unit", Fields: fields, Records: bytes.Count(records, []byte("\n")), Sum: sum(records)}}}
		text, err := encodeManifest(m)
		require.NoError(t, err)
		require.NoError(t, os.Mkdir(filepath.Join(dir, "records"), 0o755))
		for name, data := range map[string][]byte{manifestName: text, catalogName: []byte(testCatalog), "records/unit.jsonl": records} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
		}
		r, err := Open(dir)
		require.NoError(t, err)
		defer r.Close()
		require.NoError(t, r.Verify(context.Background()), "its seal fits")
		before, err := lines(t, r)
		if err != nil {
			var known *Error
			require.ErrorAs(t, err, &known)
			require.Positive(t, known.Line+len(known.File))
			return
		}
		for _, asFolder := range []bool{true, false} {
			after, err := lines(t, rewritten(t, r, asFolder))
			require.NoError(t, err)
			require.ElementsMatch(t, before["unit"], after["unit"])
		}
	})
}
