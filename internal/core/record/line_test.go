package record

import (
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
