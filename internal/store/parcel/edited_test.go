package parcel

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"anagram/internal/core/record"
)

const editedCatalog = "types:\n  unit: {key: [code]}\n  assay: {key: [code], refers: {unit: unit}, files: [sheet]}\n"

var editedAbout = Manifest{Name: "hand", Source: "hand",
	Keys: record.Shapes{"unit": {{Name: "code", Kind: record.Text}}, "assay": {{Name: "code", Kind: record.Text}}},
	Types: []Type{{Name: "unit", Fields: []record.Field{{Name: "name", Kind: record.Text}}},
		{Name: "assay", Fields: []record.Field{{Name: "low", Kind: record.Decimal}, {Name: "unit", Kind: record.Reference, Refers: "unit"}, {Name: "sheet", Kind: record.Bytes}}}}}

// byHand makes a folder of files.
func byHand(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "hand")
	for name, text := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	return dir
}

// readByHand gives the records of a folder, a line each with the line that it stands in.
func readByHand(dir string) ([]string, error) {
	about := editedAbout
	e, err := OpenEdited(dir, &about, []byte(editedCatalog))
	if err != nil {
		return nil, err
	}
	defer e.Close()
	types, err := e.Types()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, typ := range types {
		err := e.EditedRecords(context.Background(), typ, func(line int, rec record.Record) error {
			out = append(out, fmt.Sprintf("%s %d %s", typ.Name, line, record.AppendLine(nil, typ.Fields, rec)))
			return nil
		})
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

func shaOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

func TestRecordsWrittenByHandInEveryForm(t *testing.T) {
	sha := shaOf("a sheet")
	want := []string{
		`unit 1 {"key":["mg"],"values":{"name":"milligram"}}`,
		`unit 3 {"key":["g"],"values":{"name":null}}`,
		`assay 2 {"key":["GLU"],"values":{"low":"1.5","unit":["mg"],"sheet":{"file":"sha256:` + sha + `"}}}`,
		`assay 4 {"key":["NA"],"values":{"low":null,"unit":null}}`,
	}
	got, err := readByHand(byHand(t, map[string]string{
		"records/unit.jsonl": "{\"key\":[\"mg\"],\"values\":{\"name\":\"milligram\"}}\r\n\n{\"values\":{\"name\":null},\"key\":[\"g\"]}", // no line end at the end
		"records/assay.csv":  "\ufeffcode,unit,low\nGLU,mg,1.50\n\nNA,,\n", "files/" + sha: "a sheet",
	}))
	require.NoError(t, err)
	want[2] = `assay 2 {"key":["GLU"],"values":{"low":"1.5","unit":["mg"]}}`
	assert.Equal(t, want, got, "a column that is not there says nothing about its field")

	book := excelize.NewFile()
	for cell, text := range map[string]string{"A1": "code", "B1": "low", "C1": "unit", "D1": "sheet", "A2": "GLU", "B2": "1.50", "C2": "mg", "D2": "sha256:" + sha} {
		require.NoError(t, book.SetCellStr("Sheet1", cell, text))
	}
	var xlsx bytes.Buffer
	require.NoError(t, book.Write(&xlsx))
	got, err = readByHand(byHand(t, map[string]string{"records/assay.xlsx": xlsx.String(), "files/" + sha: "a sheet"}))
	require.NoError(t, err)
	assert.Equal(t, []string{`assay 2 {"key":["GLU"],"values":{"low":"1.5","unit":["mg"],"sheet":{"file":"sha256:` + sha + `"}}}`}, got)
}

func TestWhatIsWrongInAnEditedParcelIsNamedByFileAndLine(t *testing.T) {
	line := `{"key":["mg"],"values":{"name":"x"}}` + "\n"
	for what, c := range map[string]struct {
		files map[string]string
		file  string
		line  int
		why   string
	}{
		"no JSON":               {map[string]string{"records/unit.jsonl": line + "{\"key\":\n"}, "records/unit.jsonl", 2, "end"},
		"a field of another":    {map[string]string{"records/unit.jsonl": line + line + `{"key":["g"],"values":{"low":"1"}}`}, "records/unit.jsonl", 3, `the field "low" is not described`},
		"a wrong value":         {map[string]string{"records/assay.csv": "code,low\nA,1\nB,x\n"}, "records/assay.csv", 3, `column low: "x" is not a number`},
		"a quote left open":     {map[string]string{"records/assay.csv": "code,low\nA,\"1\nB,2\n"}, "records/assay.csv", 2, "quote"},
		"an attachment missing": {map[string]string{"records/assay.jsonl": `{"key":["A"],"values":{"sheet":{"file":"sha256:` + shaOf("x") + `"}}}`}, "records/assay.jsonl", 1, "is missing"},
		"two forms of one type": {map[string]string{"records/unit.jsonl": line, "records/unit.csv": "code\nA\n"}, "", 0, "keep the one that holds"},
		"an unknown type":       {map[string]string{"records/units.jsonl": line}, "records/units.jsonl", 0, `did you mean "unit"?`},
		"a foreign file":        {map[string]string{"records/unit.jsonl": line, "notes.txt": "x"}, "", 0, "does not belong in a parcel"},
		"a foreign folder":      {map[string]string{"records/unit.jsonl": line, "more/unit.jsonl": line}, "", 0, "does not belong in a parcel"},
		"no spreadsheet":        {map[string]string{"records/unit.xlsx": "PK"}, "records/unit.xlsx", 0, "no spreadsheet"},
	} {
		_, err := readByHand(byHand(t, c.files))
		var wrong *Error
		require.ErrorAs(t, err, &wrong, what)
		if c.file != "" {
			assert.Equal(t, c.file, wrong.File, what)
			assert.Equal(t, c.line, wrong.Line, what)
		}
		assert.ErrorContains(t, err, c.why, what)
	}
	_, err := OpenEdited(filepath.Join(t.TempDir(), "none"), nil, nil)
	assert.ErrorContains(t, err, "there is no such parcel or folder")
	_, err = OpenEdited(byHand(t, map[string]string{"records/unit.jsonl": line}), nil, nil)
	assert.ErrorContains(t, err, "it has no parcel.json")
}

func TestReadingAnEditedParcelStopsWhenAsked(t *testing.T) {
	about := editedAbout
	e, err := OpenEdited(byHand(t, map[string]string{"records/unit.jsonl": strings.Repeat(`{"key":["mg"],"values":{}}`+"\n", 50)}), &about, []byte(editedCatalog))
	require.NoError(t, err)
	defer e.Close()
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	typ, _ := e.Manifest.Type("unit")
	assert.ErrorIs(t, e.EditedRecords(ctx, typ, func(int, record.Record) error { return nil }), context.Canceled)
	stop := errors.New("stop")
	assert.ErrorIs(t, e.EditedRecords(context.Background(), typ, func(int, record.Record) error { return stop }), stop)
	assert.ErrorContains(t, e.Place("unit", 7, "odd"), "records/unit.jsonl line 7: odd")
}

// TestReplacingAFolderThatWasInterrupted begins to replace an edited folder, is stopped in
// the middle, and goes on when it is opened for editing again. Until then nobody reads it.
func TestReplacingAFolderThatWasInterrupted(t *testing.T) {
	path := write(t, true)
	made := filepath.Join(t.TempDir(), "made")
	require.NoError(t, os.CopyFS(made, os.DirFS(write(t, true))))
	require.NoError(t, os.WriteFile(filepath.Join(path, ".gitkeep"), nil, 0o600))
	require.NoError(t, Replace(path, made))
	r, err := Open(path)
	require.NoError(t, err)
	require.NoError(t, r.Verify(context.Background()))
	id := r.Manifest.ID
	require.NoError(t, r.Close())
	assert.FileExists(t, filepath.Join(path, ".gitkeep"), "what version control keeps there stays")

	// As if it had been stopped: the note is there, one file is in its place, another not.
	old, err := os.ReadFile(filepath.Join(path, "parcel.json"))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(path, ".anagram-new"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(path, ".anagram-new", "parcel.json"), old, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(path, "parcel.json"), []byte("{"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(path, ".anagram-replacing"), []byte(`{"files":["parcel.json","records/unit.jsonl"],"remove":["referred.jsonl"]}`), 0o600))
	_, err = Open(path)
	require.ErrorContains(t, err, "was interrupted; finish it with: anagram parcel reseal "+path+" --note TEXT")
	e, err := OpenEdited(path, nil, nil)
	require.NoError(t, err)
	require.NoError(t, e.Close())
	r, err = Open(path)
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, id, r.Manifest.ID)
	require.NoError(t, r.Verify(context.Background()))

	require.NoError(t, os.WriteFile(filepath.Join(path, ".anagram-replacing"), []byte(`{"files":["../evil"]}`), 0o600))
	_, err = OpenEdited(path, nil, nil)
	assert.ErrorContains(t, err, "which is none of its files")
}

func TestReplacingAParcelThatIsOneFile(t *testing.T) {
	path, made := write(t, false), write(t, false)
	require.NoError(t, Replace(path, made))
	r, err := Open(path)
	require.NoError(t, err)
	require.NoError(t, r.Verify(context.Background()))
	require.NoError(t, r.Close())
	assert.NoFileExists(t, made)
	assert.Error(t, Replace(filepath.Join(t.TempDir(), "none"), path))
}
