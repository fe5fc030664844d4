package pairing

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

const source = `
types:
  unit: {key: [code]}
  item: {key: [code], id: id, refers: {unit: {to: unit, by: key}, twin: item}}
  part: {key: [item, no], id: id, refers: {item: item}, part_of: item}
  tag: {key: [item, no], refers: {item: {to: item, by: key}}}
  note: {key: [code]}
`

func bench(t *testing.T) (*Names, record.Shapes, func(string) record.Key) {
	t.Helper()
	c, err := catalog.Parse("catalog.yaml", []byte(source))
	require.NoError(t, err)
	text := func(name string) record.Field { return record.Field{Name: name, Kind: record.Text} }
	item := record.Field{Name: "item", Kind: record.Reference, Refers: "item"}
	shapes := record.Shapes{"unit": {text("code")}, "item": {text("code")}, "part": {item, text("no")}, "tag": {item, text("no")}, "note": {text("code")}}
	key := func(address string) record.Key {
		_, k, err := c.ParseAddress(shapes, address)
		require.NoError(t, err)
		return k
	}
	return New(c, shapes), shapes, key
}

func TestNamesFollowThroughKeys(t *testing.T) {
	n, _, key := bench(t)
	same := func(want string, got record.Key) {
		t.Helper()
		assert.Equal(t, key(want).Order(), got.Order(), want)
	}
	n.Add("item", key("item/OLD"), key("item/NEW"))
	n.Add("part", key("part/OLD/1"), key("part/NEW/one"))
	same("item/NEW", n.Source("item", key("item/OLD")))
	same("item/OLD", n.Target("item", key("item/NEW")))
	same("item/B", n.Source("item", key("item/B")))
	same("part/NEW/2", n.Source("part", key("part/OLD/2")))
	same("part/NEW/one", n.Source("part", key("part/OLD/1")))
	same("part/OLD/1", n.Target("part", key("part/NEW/one")))
	assert.True(t, n.Touches("tag"))
	assert.False(t, n.Touches("note"))
	assert.False(t, n.Touches("unit"), "what is referred to does not change")
	assert.True(t, n.Paired("item", key("item/NEW")))
	assert.False(t, n.Paired("item", key("item/OLD")))
	var none *Names
	assert.False(t, none.Touches("item"))

	// Once the target has the new key, what follows by itself is known by it.
	n.Written("item", key("item/NEW"))
	same("item/NEW", n.Target("item", key("item/NEW")))
	same("part/NEW/1", n.Target("part", key("part/NEW/one")))
	same("item/OLD", n.TargetWas("item", key("item/NEW")))
	same("part/NEW/1", n.TargetWas("part", key("part/NEW/one")))
	same("tag/OLD/1", n.TargetWas("tag", key("tag/NEW/1")))
}

func TestARecordSaysUnderWhichKeyItStands(t *testing.T) {
	n, _, key := bench(t)
	n.Add("item", key("item/OLD"), key("item/NEW"))
	n.Add("unit", key("unit/mg"), key("unit/milligram"))
	fields := []record.Field{{Name: "twin", Kind: record.Reference, Refers: "item"}, {Name: "unit", Kind: record.Reference, Refers: "unit"}}
	read := n.ToSource("item", fields, record.Record{Key: key("item/OLD"), Values: []record.Value{record.ReferenceValue("item", key("item/OLD")), record.ReferenceValue("unit", key("unit/mg"))}})
	assert.Equal(t, key("item/NEW").Order(), read.Key.Order())
	assert.Equal(t, key("item/OLD").Order(), read.Stands().Order())
	assert.Equal(t, key("item/NEW").Order(), read.Values[0].Key().Order(), "a reference by internal id follows")
	assert.Equal(t, key("unit/mg").Order(), read.Values[1].Key().Order(), "a reference that holds the key has to be written")

	part := n.ToSource("part", nil, record.Record{Key: key("part/OLD/1")})
	assert.Nil(t, part.Was, "its key follows by itself")
	assert.Equal(t, key("part/NEW/1").Order(), part.Key.Order())
	tag := n.ToSource("tag", nil, record.Record{Key: key("tag/OLD/1")})
	require.NotNil(t, tag.Was, "its key has to be written")
	assert.Equal(t, key("tag/OLD/1").Order(), tag.Was.Order())
	assert.Equal(t, key("tag/NEW/1").Order(), tag.Key.Order())

	pieces := record.WovenValue([]record.Value{record.ReferenceValue("item", key("item/NEW"))})
	assert.Equal(t, key("item/OLD").Order(), n.ToTarget(pieces).References()[0].Key().Order(), "references inside values as well")
}
