package test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where one side was copied from the other, stamps tell who moved until values are agreed.
func TestWhatWasCopiedThen(t *testing.T) {
	t.Parallel()
	const then, before, after = "2026-09-30 22:00:00", "2026-05-01 10:00:00", "2026-11-01 10:00:00"
	row := func(code, name, at, who string) string {
		return "INSERT INTO items (code, name, changed, who) VALUES ('" + code + "','" + name + "','" + at + "','" + who + "');"
	}
	p := newPlace(t, stampedItems,
		itemTable+row("SAME", "s", then, "ruth")+row("SOURCE", "new", after, "ida")+row("TARGET", "old", before, "ruth")+row("BOTH", "ours", after, "ida")+
			row("NEITHER", "x", before, "ida")+row("GONE", "g", before, "ruth")+row("NEW", "n", after, "ida"),
		itemTable+row("SAME", "s", then, "ruth")+row("SOURCE", "old", before, "ruth")+row("TARGET", "new", after, "ruth")+row("BOTH", "theirs", after, "ruth")+
			row("NEITHER", "y", before, "ruth")+row("REMOVED", "r", before, "ruth")+row("OWN", "o", after, "ruth"))
	r := p.must(3, "match", "source", "--against", "target", "--name", "first")
	offered := "made_from: {environment: target, on: 2026-09-30T22:00:00Z}"
	assert.Contains(t, words(r.out), "This is the first match of source and target, so it cannot be known who changed what differs. If source was copied from target, say when under source in anagram.yaml, and match again: "+offered)
	assert.Equal(t, []string{"target-newer"}, p.review()["item/TARGET"].Reasons)
	first := p.json(3, "match", "first", "--against", "target")
	assert.Nil(t, first["first_match"], "said once")

	// The remedy, to the letter; what was remembered until then is from after it.
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), `"sqlite:source.db"}`, `"sqlite:source.db", `+offered+"}", 1))
	require.NoError(t, os.RemoveAll(p.path(".anagram/agreed")))
	for range 2 { // before and after the first match has remembered what is the same
		p.run("match", "first", "--against", "target")
		f := p.review()
		for address, want := range map[string][]string{"item/SOURCE": {"changed"}, "item/TARGET": {"target-edit"}, "item/BOTH": {"conflict", "both-moved"},
			"item/NEITHER": {"changed"}, "item/GONE": {"conflict", "removed-in-target"}, "item/NEW": {"new"}, "item/REMOVED": {"target-only", "removed-in-source"}, "item/OWN": {"target-only"}} {
			assert.Equal(t, want, append([]string{f[address].Status}, f[address].Reasons...), address)
		}
		assert.Contains(t, strings.Join(messages(f["item/NEITHER"]), " "), "item/NEITHER differs, but by their stamps neither side changed it since one was copied from the other: in source on 2026-05-01 10:00:00 by ida, in target on 2026-05-01 10:00:00 by ruth.")
		assert.Equal(t, "source", f["item/SOURCE"].Fields[0].Moved)
	}

	// Agreed values win; another copy afterwards makes them worthless.
	p.must(0, "approve", "item/SOURCE")
	p.must(0, "import")
	p.sql("target", "UPDATE items SET name = 'silent' WHERE code = 'SOURCE'")
	assert.Equal(t, []string{"target-edit"}, p.reasonOf("item/SOURCE"))
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "2026-09-30T22:00:00Z", "2099-12-01", 1))
	assert.Equal(t, []string{"changed"}, p.reasonOf("item/SOURCE"), "by their stamps nobody moved")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "2099-12-01", "soon", 1))
	p.refused("is neither a date such as 2026-10-01 nor a time", "status")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "environment: target", "environment: tarjet", 1))
	p.refused("made_from", "status")
}
