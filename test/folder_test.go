package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"anagram/internal/environment/folder"
)

const filesCatalog = `
types:
  unit: {at: {files: units}, key: [code], id: id}
  thing: {at: {files: things}, key: [code], id: id, refers: {unit_id: unit}, as: {price: decimal, active: boolean}}
`

// filesPlace has a database as source and a folder of files as target, in one form.
func filesPlace(t *testing.T, form string) *place {
	p := newPlace(t, filesCatalog, `CREATE TABLE unit (id INTEGER PRIMARY KEY, code TEXT); CREATE TABLE thing (id INTEGER PRIMARY KEY, code TEXT, name TEXT, price DECIMAL(10,2), active BOOLEAN, unit_id INTEGER);
		INSERT INTO unit VALUES (1,'m'),(2,'s'); INSERT INTO thing VALUES (1,'A','Æ, "one"',2.50,1,1),(2,'B','',NULL,0,2),(3,'C',NULL,1,NULL,NULL);`, "CREATE TABLE x (y)")
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  files: {connect: \"folder:data\"}\n")
	switch form {
	case "csv":
		p.write("data/units.csv", "code;id\r\nm;7\r\n")
		p.write("data/things.csv", "\ufeffid,code,name,price,active,unit_id,remark\n9,A,old,2.50,true,7,\"kept, as it is\"\n10,D,only here,,,,\n")
	case "jsonl":
		p.write("data/units.jsonl", `{"code":"m","id":7}`+"\n")
		p.write("data/things.jsonl", `{"id":9,"code":"A","name":"old","price":2.50,"active":true,"unit_id":7,"remark":"kept, as it is"}`+"\n\n"+`{"id":10,"code":"D","name":"only here"}`+"\n")
	default:
		for name, rows := range map[string][][]any{
			"units":  {{"code", "id"}, {"m", "7"}},
			"things": {{"id", "code", "name", "price", "active", "unit_id", "remark"}, {9, "A", "old", "2.50", "true", "7", "kept, as it is"}, {10, "D", "only here"}},
		} {
			book := excelize.NewFile()
			for i, row := range rows {
				at, _ := excelize.CoordinatesToCellName(1, i+1)
				require.NoError(t, book.SetSheetRow("Sheet1", at, &row))
			}
			require.NoError(t, os.MkdirAll(p.path("data"), 0o755))
			require.NoError(t, book.SaveAs(p.path("data/"+name+".xlsx")))
		}
	}
	return p
}

func TestAFolderOfFilesAsTargetAndSource(t *testing.T) {
	t.Parallel()
	for _, form := range []string{"csv", "jsonl", "xlsx"} {
		t.Run(form, func(t *testing.T) {
			p := filesPlace(t, form)
			assert.Contains(t, words(p.must(0, "env", "test", "files").out), "2 tables, read and write")
			p.must(0, "catalog", "check", "files")
			before := string(p.read("data/things." + form))
			assert.Equal(t, map[string]int{"new": 3, "changed": 1, "target_only": 1}, totals(p.json(3, "match", "source", "--against", "files", "--name", "s")))
			p.must(0, "approve", "*")
			p.must(0, "import", "--rehearse")
			assert.Equal(t, before, string(p.read("data/things."+form)), "a rehearsal leaves the files as they are")
			p.must(0, "import")
			assert.Equal(t, map[string]int{"target_only": 1}, totals(p.json(matched, "match", "s", "--against", "files")))
			kept, err := filepath.Glob(p.path("data/things." + form + ".before-*"))
			require.NoError(t, err)
			require.Len(t, kept, 1)
			old, err := os.ReadFile(kept[0])
			require.NoError(t, err)
			assert.Equal(t, before, string(old), "the file that was there is kept")
			switch form {
			case "csv":
				assert.Equal(t, "\ufeffid,code,name,price,active,unit_id,remark\n9,A,\"Æ, \"\"one\"\"\",2.50,true,7,\"kept, as it is\"\n10,D,only here,,,,\n11,B,\"\"\"\"\"\",,false,8,\n12,C,,1,,,\n", string(p.read("data/things.csv")))
				assert.Equal(t, "code;id\r\nm;7\r\ns;8\r\n", string(p.read("data/units.csv")), "in the form that it had")
			case "jsonl":
				assert.Equal(t, `{"id":9,"code":"A","name":"Æ, \"one\"","price":2.50,"active":true,"unit_id":7,"remark":"kept, as it is"}

{"id":10,"code":"D","name":"only here"}
{"active":false,"code":"B","id":11,"name":"","unit_id":8}
{"code":"C","id":12,"name":null,"price":1}
`, string(p.read("data/things.jsonl")))
			}
			p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "environments:\n", "environments:\n  empty: {connect: \"sqlite:empty.db\"}\n", 1))
			p.sql("empty", "CREATE TABLE unit (id INTEGER PRIMARY KEY, code TEXT); CREATE TABLE thing (id INTEGER PRIMARY KEY, code TEXT, name TEXT, price DECIMAL(10,2), active BOOLEAN, unit_id INTEGER);")
			p.must(3, "match", "files", "--against", "empty", "--name", "back")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{`A Æ, "one" 2.5 1 m`, "B  NULL 0 s", "C NULL 1 NULL NULL", "D only here NULL NULL NULL"},
				p.rows("empty", "SELECT t.code, coalesce(name, 'NULL'), coalesce(price, 'NULL'), coalesce(active, 'NULL'), coalesce(u.code, 'NULL') FROM thing t LEFT JOIN unit u ON u.id = t.unit_id ORDER BY 1"))
		})
	}
}

func TestFilesThatCannotBeRead(t *testing.T) {
	t.Parallel()
	for content, want := range map[string]string{
		"":               "things.csv: it is empty; the first line names the columns",
		"a,a\n":          "column 2 has the name \"a\", which stands twice in the first line",
		"code,name\n\"x": "line 2: a quote is opened and never closed",
	} {
		p := filesPlace(t, "csv")
		p.write("data/things.csv", content)
		p.refused(want, "export", "files")
	}
	// A text that is not UTF-8 is one of its record, and stays as it stands.
	p := filesPlace(t, "csv")
	odd := "id,code,name,price,active,unit_id,remark\n9,A,\xff\xfe,2.50,true,7,\n"
	p.write("data/things.csv", odd)
	assert.Contains(t, words(p.must(0, "export", "files", "--name", "f").out), "thing/A, field name: the text is not UTF-8")
	p.must(3, "match", "source", "--against", "files")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.True(t, strings.HasPrefix(string(p.read("data/things.csv")), odd))
	p = filesPlace(t, "jsonl")
	p.write("data/things.jsonl", "{\"code\":\"A\"}\n{\"code\"\n")
	p.refused("things.jsonl: line 2", "export", "files")
	p.write("data/things.csv", "code\nA\n")
	p.write("data/things.jsonl", "{\"code\":\"A\"}\n")
	p.refused(`things.jsonl: things.csv gives the place "things" as well`, "export", "files")
	require.NoError(t, os.RemoveAll(p.path("data")))
	p.refused("there is no folder", "export", "files")
}

// A record that nobody touches keeps its bytes, whatever its form, and so does all of a
// record but what changes.
func TestFilesKeepTheirBytes(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ file, before, after string }{
		"text that looks like a number, absent and double members": {"things.jsonl",
			"{\"code\":\"K\", \"id\":1,\"name\":\"12\"}\n\n{ \"id\":2, \"code\":\"L\",\"name\":7,\"name\":\"7\" }\r\n{\"code\":\"A\",\"id\":3,\"name\":\"x\",\"price\":2.5,\"note\":{\"b\":1, \"a\":1e2}}",
			"{\"code\":\"K\", \"id\":1,\"name\":\"12\"}\n\n{ \"id\":2, \"code\":\"L\",\"name\":7,\"name\":\"7\" }\r\n{\"code\":\"A\",\"id\":3,\"name\":\"new\",\"price\":2.5,\"note\":{\"b\":1, \"a\":1e2}}"},
		"line ends within cells, quotes that need not be": {"things.csv",
			"id,code,name,price,note\r\n1,\"K\",\"a\r\nb\nc\",1.50,\r\n3,\"A\",x,2.5,\"d\r\ne\"\r\n",
			"id,code,name,price,note\r\n1,\"K\",\"a\r\nb\nc\",1.50,\r\n3,\"A\",new,2.5,\"d\r\ne\"\r\n"},
		"lines that end in CR alone, and the last in nothing": {"things.csv", "id;code;name;price\r1;K;k;1\r3;A;x;2.5", "id;code;name;price\r1;K;k;1\r3;A;new;2.5"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  files: {connect: \"folder:data\"}\n")
			p.write("catalog.yaml", "types:\n  thing: {at: things, key: [code], id: id, as: {price: decimal}}\n")
			p.sql("source", "CREATE TABLE things (id INTEGER PRIMARY KEY, code TEXT, name TEXT, price DECIMAL(9,2)); INSERT INTO things VALUES (1,'A','new',2.5);")
			p.write("data/"+c.file, c.before)
			p.must(3, "match", "source", "--against", "files", "--name", "p")
			p.must(0, "approve", "thing/A")
			p.must(0, "import")
			assert.Equal(t, c.after, string(p.read("data/"+c.file)))
			p.run("match", "p", "--against", "files")
			assert.NotContains(t, p.review(), "thing/A")
		})
	}
}

// An import that was interrupted while files were replaced is completed when the folder
// is opened next; files that somebody changed are not overwritten.
func TestReplacingFilesIsCompletedAndNeverBlind(t *testing.T) {
	t.Parallel()
	p := filesPlace(t, "csv")
	p.write("data/.anagram-new/units.csv", "code;id\r\nm;7\r\nnew;8\r\n")
	p.write("data/.anagram-replacing", `{"files":["units.csv","things.csv"],"keep":".before-then"}`)
	r := p.run("export", "files", "--name", "early")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, strings.Join(strings.Fields(r.err), " "), "Import that docket again: that puts the rest into place first", "who only reads changes nothing")
	assert.NoFileExists(t, p.path("data/units.csv.before-then"))

	ctx := context.Background()
	env, err := folder.Open(ctx, "files", p.path("data"), false)
	require.NoError(t, err)
	defer env.Close()
	assert.Equal(t, "code;id\r\nm;7\r\n", string(p.read("data/units.csv.before-then")))
	assert.NoFileExists(t, p.path("data/.anagram-replacing"))
	p.must(0, "export", "files", "--name", "e")
	assert.Contains(t, p.holds("e"), "unit/new")

	p.write("data/.anagram-replacing", `{"files":["../evil.csv"]}`)
	_, err = folder.Open(ctx, "files", p.path("data"), false)
	require.ErrorContains(t, err, "which is none of its files")
	require.NoError(t, os.Remove(p.path("data/.anagram-replacing")))
	first, err := env.Begin(ctx, nil)
	require.NoError(t, err)
	other, err := folder.Open(ctx, "files", p.path("data"), false)
	require.NoError(t, err)
	defer other.Close()
	_, err = other.Begin(ctx, nil)
	assert.ErrorContains(t, err, "another import is at work")
	p.write("data/units.csv", "code;id\r\nsomebody;1\r\n")
	require.ErrorContains(t, first.Commit(ctx), "was changed by somebody else in the meantime")
	assert.Equal(t, "code;id\r\nsomebody;1\r\n", string(p.read("data/units.csv")))
}
