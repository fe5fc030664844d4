package scim

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// A resource becomes a row: names in whatever case, several values in one order, what the
// directory fills by itself left out.
func TestRowsOfResources(t *testing.T) {
	t.Parallel()
	emails := attribute{Name: "emails", Type: "complex", MultiValued: true, SubAttributes: []attribute{{Name: "display", Mutability: "readOnly"}}}
	p := &place{endpoint: "Users", columns: []column{
		{attribute: attribute{Name: idColumn}, kind: record.Text}, {attribute: attribute{Name: changedColumn}, kind: record.Timestamp}, {attribute: attribute{Name: "userName"}, kind: record.Text},
		{attribute: attribute{Name: "active", Type: "boolean"}, kind: record.Boolean}, {attribute: attribute{Name: "level", Type: "integer"}, kind: record.Integer}, {attribute: emails, kind: record.JSON},
		{attribute: attribute{Name: "photo", Type: "binary"}, kind: record.Bytes}, {attribute: attribute{Name: "lab_User"}, kind: record.JSON, urn: "urn:x:lab:2.0:User"},
	}}
	row, err := p.row([]byte(`{"id":"7","meta":{"version":"W/\"3\"","lastModified":"2026-01-02T03:04:05+01:00"},"USERNAME":"mara","active":"True","level":4,
		"emails":[{"value":"b","display":"B"},{"value":"a","$ref":"x"},{}],"photo":"AP8=","urn:x:lab:2.0:User":{"b":2,"a":1},"other":1}`))
	require.NoError(t, err)
	assert.Equal(t, `W/"3"`, row.Tag)
	assert.Equal(t, map[string]any{"id": "7", changedColumn: "2026-01-02T02:04:05Z", "userName": "mara", "active": int64(1), "level": int64(4), "emails": `[{"value":"a"},{"value":"b"}]`, "photo": []byte{0, 255}, "lab_User": `{"a":1,"b":2}`}, row.Values)

	for _, broken := range []string{`[]`, `{}`, `{"id":""}`, `{"id":7}`, `{"id":"7","meta":5}`, `{"id":"7","meta":{"version":"a\nb"}}`, `{"id":"7","userName":5}`, `{"id":"7","active":"maybe"}`, `{"id":"7","level":"x"}`, `{"id":"7","photo":"?"}`} {
		_, err := p.row(json.RawMessage(broken))
		assert.Error(t, err, broken)
	}

	body, err := p.resource(map[string]any{"userName": "mara", "active": int64(0), "level": nil, "emails": `[{"value":"a"}]`, "lab_User": `{"a":1}`, "id": "7"}, map[string]json.RawMessage{"level": []byte("3"), "kept": []byte("true")})
	require.NoError(t, err)
	assert.JSONEq(t, `{"schemas":["","urn:x:lab:2.0:User"],"id":"7","userName":"mara","active":false,"emails":[{"value":"a"}],"urn:x:lab:2.0:User":{"a":1},"kept":true}`, string(body))
}

// What was sent is not in what is shown of a refusal.
func TestRefusalsOfADirectory(t *testing.T) {
	t.Parallel()
	sent := []byte(`{"userName":"mara.secret","emails":[{"value":"planted@x.example"}]}`)
	assert.Equal(t, ": uniqueness … is taken", said([]byte(`{"scimType":"uniqueness","detail":"mara.secret is taken."}`), texts(sent)))
	assert.NotContains(t, said([]byte(`{"detail":"planted@x.example \u001b[2J"}`), texts(sent)), "planted")
	assert.Empty(t, said([]byte(`<html>`), nil))
}

// An attribute that is given when a resource is made, and never after, is told as such.
func TestAnAttributeThatIsGivenOnce(t *testing.T) {
	p := &place{name: "Users", columns: []column{{attribute: attribute{Name: "number", Mutability: "immutable"}, kind: record.Text}, {attribute: attribute{Name: "title", Mutability: "readWrite"}, kind: record.Text}}}
	once := map[string]bool{}
	for _, c := range p.described().Columns {
		once[c.Name] = c.Once
	}
	assert.Equal(t, map[string]bool{"number": true, "title": false}, once)
}
