package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func TestUniqueSets(t *testing.T) {
	c, err := Parse("catalog.yaml", []byte(`
types:
  site: {key: [land, code]}
  item:
    key: [code]
    id: id
    local: {port: {}}
    refers: {site: {to: site, columns: {site_land: land, site_code: code}}}
    unique: [[name], [name, color]]
`))
	require.NoError(t, err)
	item, _ := c.Type("item")
	fields := []record.Field{{Name: "color"}, {Name: "name"}, {Name: "site"}}
	place := Place{Unique: [][]string{{"code"}, {"name"}, {"port"}, {"id", "name"}, {"site_land", "site_code", "color"}, {"site_land", "color"}, {"color", "code"}}}
	assert.Equal(t, [][]string{{"name"}, {"site", "color"}, {"name", "color"}}, item.UniqueSets(place, []record.Field{{Name: "code"}}, fields),
		"not the key or more than it, not what is local or an internal id, not a part of a reference")
	_, err = Parse("catalog.yaml", []byte("types:\n  item: {key: [code], unique: [[]]}\n"))
	assert.ErrorContains(t, err, "names no field")
}
