package record

import (
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	lineShapes = Shapes{
		"unit":  {{Name: "code", Kind: Text}},
		"assay": {{Name: "unit_id", Kind: Reference, Refers: "unit"}, {Name: "no", Kind: Integer}},
		"tree":  {{Name: "parent", Kind: Reference, Refers: "tree"}, {Name: "code", Kind: Text}},
	}
	lineFields = []Field{
		{Name: "active", Kind: Boolean}, {Name: "amount", Kind: Decimal}, {Name: "body", Kind: Bytes}, {Name: "count", Kind: Integer},
		{Name: "day", Kind: Date}, {Name: "extra", Kind: JSON}, {Name: "name", Kind: Text}, {Name: "node", Kind: Reference, Refers: "tree"},
	}
)

func TestRecordLinesReadBack(t *testing.T) {
	for _, line := range []string{
		`{"key":[["mg"],7],"values":{"active":true,"amount":"1.5","body":{"file":"sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"},"count":9007199254740992,"day":"2026-11-23","extra":{"json":{"a":[1,null]}},"name":"x","node":[[null,"A"],"B"]},"changed_at":"2026-01-01T00:00:00","changed_by":"mara","why":"chosen"}`,
		`{"key":[null,0],"values":{"active":null,"amount":null,"body":null,"count":null,"day":null,"extra":null,"name":null,"node":null}}`,
		`{"key":[["a\"\\/\u0001é"],-1],"values":{"count":"9007199254740993","extra":{"json":null},"name":""}}`,
		`{"key":[[""],1],"values":{}}`,
	} {
		r, err := ParseLine([]byte(line), "assay", lineFields, lineShapes)
		require.NoError(t, err, line)
		assert.Equal(t, line, string(AppendLine(nil, lineFields, r)), "a canonical line is written as it was read")
	}
	r, err := ParseLine([]byte(`{"key":[["mg"],7],"values":{"name":null}}`), "assay", lineFields, lineShapes)
	require.NoError(t, err)
	assert.True(t, r.Values[0].IsAbsent(), "a field that is left out says nothing")
	assert.True(t, r.Values[6].IsNull(), "null is said")
}

func TestBrokenRecordLines(t *testing.T) {
	for line, why := range map[string]string{
		`{"key":[["mg"],7],"values":{"name":"x"}`: "column 40",
		`not JSON`:                         "this is not JSON",
		`[]`:                               "a record is a JSON object",
		`{"values":{}}`:                    `no "key"`,
		`{"key":[["mg"]],"values":{}}`:     "array of 2",
		`{"key":["mg",7],"values":{}}`:     "part 1 (unit_id)",
		`{"key":[["mg"],"x"],"values":{}}`: "part 2 (no)",
		`{"key":[["mg"],7],"key":[["g"],7],"values":{}}`:        `"key" stands twice`,
		`{"key":[["mg"],7],"values":{"name":"x","name":"y"}}`:   `"name" stands twice`,
		`{"key":[["mg"],7],"values":{"price":1}}`:               `"price" is not described`,
		`{"key":[["mg"],7],"values":{"name":1}}`:                `field "name": a text is expected`,
		`{"key":[["mg"],7],"values":{"active":"true"}}`:         `field "active": true or false`,
		`{"key":[["mg"],7],"values":{"amount":"1,5"}}`:          `field "amount"`,
		`{"key":[["mg"],7],"values":{"body":"abc"}}`:            `field "body"`,
		`{"key":[["mg"],7],"values":{"body":{"file":"abc"}}}`:   `field "body"`,
		`{"key":[["mg"],7],"values":{"extra":{"a":1}}}`:         `field "extra"`,
		`{"key":[["mg"],7],"values":{"node":["A"]}}`:            `field "node"`,
		`{"key":[["mg"],7],"values":{"name":"\ud800 alone"}}`:   "surrogate",
		`{"key":[["mg"],7],"values":{},"colour":"red"}`:         `"colour" is not known`,
		"{\"key\":[[\"mg\"],7],\"values\":{\"name\":\"a\nb\"}}": "control character",
	} {
		_, err := ParseLine([]byte(line), "assay", lineFields, lineShapes)
		assert.ErrorContains(t, err, why, line)
	}
}

func FuzzParseLine(f *testing.F) {
	f.Add([]byte(`{"key":[["mg"],7],"values":{"active":true,"amount":"1.5","extra":{"json":{"a":[1e5,null]}},"node":[[null,"A"],"B"]}}`))
	f.Add([]byte(`{"key":[null,0],"values":{}}`))
	f.Add([]byte(`{"key":[["\ud83d\ude00"],"12345678901234567890"],"values":{"day":"2026-11-23"}}`))
	f.Fuzz(func(t *testing.T, line []byte) {
		r, err := ParseLine(line, "assay", lineFields, lineShapes)
		if err != nil {
			return
		}
		written := AppendLine(nil, lineFields, r)
		back, err := ParseLine(written, "assay", lineFields, lineShapes)
		require.NoError(t, err, "what was written reads back: %s", written)
		require.Zero(t, r.Key.Compare(back.Key))
		for i := range r.Values {
			require.True(t, r.Values[i].Equal(back.Values[i]), "%s: %s", lineFields[i].Name, written)
		}
	})
}

func TestTheKeyOfALineIsThatOfTheWholeLine(t *testing.T) {
	shapes := Shapes{
		"place": {{Name: "parent", Kind: Reference, Refers: "place"}, {Name: "name", Kind: Text}},
		"item":  {{Name: "place", Kind: Reference, Refers: "place"}, {Name: "no", Kind: Decimal}, {Name: "word", Kind: Text}},
	}
	fields := []Field{{Name: "note", Kind: Text}}
	for _, line := range []string{
		`{"key":[[[null,"a"],"b"],"1.5","x"],"values":{"note":"n"}}`,
		`{"key":[[null,"]]}"],"0","quote \" and \\"],"values":{"note":"]"}}`,
		`{"key":[null,null,null],"values":{}}`,
		`{"key":[[null,"{[\u005d"],"7",""],"values":{"note":null},"why":"chosen"}`,
	} {
		whole, err := ParseLine([]byte(line), "item", fields, shapes)
		require.NoError(t, err, line)
		key, ok := shapes.LineKey([]byte(line), "item")
		require.True(t, ok, line)
		assert.Equal(t, whole.Key.Order(), key.Order(), line)
	}
	for _, line := range []string{``, `{`, `{"key":`, `{"key":[`, `{"key":[1,2]`, `{"values":{},"key":[null,null,null]}`, `{"key":"x"}`, `{"key":[[null,"a"],"zero","x"]}`} {
		_, ok := shapes.LineKey([]byte(line), "item")
		assert.False(t, ok, "%q is left to ParseLine", line)
	}
}

// A line is taken apart in memory that the next one uses again: what came out of it stays.
func TestWhatWasReadStaysWhileOthersAreRead(t *testing.T) {
	shapes := Shapes{"u": {{Name: "code", Kind: Text}}, "many": {{Name: "code", Kind: Text}}}
	text := func(s string) Value {
		v, err := TextValue(s)
		require.NoError(t, err)
		return v
	}
	var fields []Field
	var values []Value
	for i := range 40 { // more members than there is room for
		fields = append(fields, Field{Name: fmt.Sprintf("f%02d", i), Kind: Text})
		values = append(values, text(fmt.Sprint("v", i)))
	}
	deep, err := Parse(JSON, `{"a":[[1,{"b":[2,{"c":["x",null,true]}]}],["y"]],"d":{"e":{"f":{}}}}`)
	require.NoError(t, err)
	fields, values = append(fields, Field{Name: "tree", Kind: JSON}, Field{Name: "u", Kind: Reference, Refers: "u"}), append(values, deep, ReferenceValue("u", shapes.Key("u", []Value{text("mmol")})))
	first := Record{Key: shapes.Key("many", []Value{text("A")}), Values: values, ChangedBy: "mara"}
	line := AppendLine(nil, fields, first)
	got, err := ParseLine(line, "many", fields, shapes)
	require.NoError(t, err)
	for i := range 300 {
		other := fmt.Sprintf(`{"key":["B%d"],"values":{"f%02d":"other","u":["g"],"tree":{"json":{"z%d":[%d]}}},"why":"along"}`, i, i%40, i, i)
		_, err := ParseLine([]byte(other), "many", fields, shapes)
		require.NoError(t, err)
		_, err = ParseLine([]byte(fmt.Sprintf(`{"key":["B"],"values":{"no%d":1}}`, i)), "many", fields, shapes)
		require.ErrorContains(t, err, fmt.Sprintf(`"no%d"`, i))
	}
	assert.Equal(t, string(line), string(AppendLine(nil, fields, got)))
	_, err = ParseLine([]byte(`{"key":["B"],"values":{"f01":"a","f01":"b"}}`), "many", fields, shapes)
	require.ErrorContains(t, err, "stands twice")
}

// What is read ahead is what the stream gives, its error at its place; who stops early leaves
// nothing behind.
func TestReadingAhead(t *testing.T) {
	for _, n := range []int{0, 1, 15, 127, 128, 129, 1000} {
		for _, size := range []int{0, 10, 100_000} {
			ended := false
			stream := func(yield func(Record, error) bool) {
				defer func() { ended = true }()
				for i := range n {
					r := Record{ID: fmt.Sprint(i)}
					if size > 0 {
						r.Line = make([]byte, size)
					}
					if !yield(r, nil) {
						return
					}
				}
				yield(Record{}, io.ErrUnexpectedEOF)
			}
			got := 0
			var last error
			for r, err := range Ahead(stream) {
				if last = err; err == nil {
					require.Equal(t, fmt.Sprint(got), r.ID)
					got++
				}
			}
			assert.Equal(t, n, got)
			require.ErrorIs(t, last, io.ErrUnexpectedEOF)
			assert.True(t, ended)
			ended = false
			for range Ahead(stream) {
				break
			}
			assert.True(t, ended, "the stream has ended when the loop has")
		}
	}
}
