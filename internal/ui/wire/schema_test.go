package wire

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is published is what the structs say: go run ./tools/schemas docs/schemas.
func TestTheSchemasAreThoseOfTheStructs(t *testing.T) {
	for name, output := range Outputs() {
		published, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "schemas", name+".schema.json"))
		require.NoError(t, err)
		assert.Equal(t, string(published), string(Schema(output)), name)
	}
}

func TestTheSchemaOfAValue(t *testing.T) {
	type inner struct {
		N    int     `json:"n"`
		More int     `json:"more,omitempty"`
		Low  int     `json:"low" least:"-1"`
		Null *string `json:"null"`
		Word string  `json:"word" one:"a,b"`
	}
	type outer struct {
		*inner
		Any  map[string]any `json:"any"`
		List []bool         `json:"list"`
	}
	text, err := object(reflect.TypeFor[outer]()).MarshalJSON()
	require.NoError(t, err)
	assert.JSONEq(t,
		`{"type":"object","properties":{"n":{"type":"integer","minimum":0},"more":{"type":"integer","minimum":1},"low":{"type":"integer","minimum":-1},
		"null":{"type":["string","null"]},"word":{"enum":["a","b"]},"any":{"type":"object","additionalProperties":{}},"list":{"type":"array","items":{"type":"boolean"}}},
		"required":["any","list"],"additionalProperties":true}`, string(text))
}
