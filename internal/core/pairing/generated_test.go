package pairing

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// TestNamesAndTheirInverseOnTrees grows trees of places that both sides know, some of them
// under another name or parent in the target, with items that stand in them. Each key of
// one side leads to that of the other, and back, however many renames are above it.
func TestNamesAndTheirInverseOnTrees(t *testing.T) {
	c, err := catalog.Parse("catalog.yaml", []byte("types:\n  place: {key: [parent, name], id: id, refers: {parent: place}}\n  item: {key: [place, no], id: id, refers: {place: place}}\n"))
	require.NoError(t, err)
	place := record.Field{Name: "parent", Kind: record.Reference, Refers: "place"}
	shapes := record.Shapes{"place": {place, {Name: "name", Kind: record.Text}}, "item": {{Name: "place", Kind: record.Reference, Refers: "place"}, {Name: "no", Kind: record.Text}}}
	key := func(typ string, parent *record.Key, name string) record.Key {
		v := record.NullValue()
		if parent != nil {
			v = record.ReferenceValue("place", *parent)
		}
		text, err := record.TextValue(name)
		require.NoError(t, err)
		return shapes.Key(typ, []record.Value{v, text})
	}
	type node struct{ source, target record.Key }
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 5))
		names := New(c, shapes)
		var tree, items []node
		for i := range 4 + r.IntN(20) {
			var n node
			var sourceParent, targetParent *record.Key
			if len(tree) > 0 && r.IntN(4) > 0 {
				p := tree[r.IntN(len(tree))]
				sourceParent, targetParent = &p.source, &p.target
			}
			name := fmt.Sprintf("n%d", i)
			n.source = key("place", sourceParent, name)
			switch r.IntN(4) {
			case 0: // another name there
				n.target = key("place", targetParent, "was-"+name)
			case 1: // it stands elsewhere there
				targetParent = nil
				if len(tree) > 0 {
					targetParent = &tree[r.IntN(len(tree))].target
				}
				n.target = key("place", targetParent, name)
			default:
				n.target = key("place", targetParent, name)
			}
			inherited := key("place", targetParentOf(sourceParent, names), name)
			if n.target.Order() != inherited.Order() {
				names.Add("place", n.target, n.source)
			}
			tree = append(tree, n)
			items = append(items, node{key("item", &n.source, "1"), key("item", &n.target, "1")})
		}
		for typ, all := range map[string][]node{"place": tree, "item": items} {
			for _, n := range all {
				require.Equal(t, n.source.Order(), names.Source(typ, n.target).Order(), "seed %d: %s of the target is %s", seed, c.Address(typ, n.target), c.Address(typ, n.source))
				require.Equal(t, n.target.Order(), names.Target(typ, n.source).Order(), "seed %d: %s of the source is %s", seed, c.Address(typ, n.source), c.Address(typ, n.target))
				require.Equal(t, n.target.Order(), names.TargetWas(typ, n.source).Order(), "seed %d", seed)
				read := names.ToSource(typ, nil, record.Record{Key: n.target})
				require.Equal(t, n.source.Order(), read.Key.Order(), "seed %d", seed)
				v := record.ReferenceValue(typ, n.source)
				require.Equal(t, n.target.Order(), names.ToTarget(v).Key().Order(), "seed %d", seed)
			}
		}
		// Once everything was written from the root on, both sides say the same.
		for _, n := range tree {
			names.Written("place", n.source)
		}
		for _, n := range items {
			require.Equal(t, n.source.Order(), names.Target("item", n.source).Order(), "seed %d", seed)
		}
	}
}

// targetParentOf is the parent that a place without a pair has in the target.
func targetParentOf(sourceParent *record.Key, names *Names) *record.Key {
	if sourceParent == nil {
		return nil
	}
	k := names.Target("place", *sourceParent)
	return &k
}
