package test

import (
	"os"
	"strings"
	"testing"
	"time"

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
	p.refused("which is still to come", "match", "first", "--against", "target")
	p.sql("source", "UPDATE items SET changed = '2026-01-01 10:00:00'")
	p.sql("target", "UPDATE items SET changed = '2026-01-01 10:00:00'")
	today := time.Now().UTC().Format(time.DateOnly)
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "2099-12-01", today, 1))
	assert.Equal(t, []string{"changed"}, p.reasonOf("item/SOURCE"), "by their stamps nobody moved")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), today, "soon", 1))
	p.refused("is neither a date such as 2026-10-01 nor a time", "status")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "environment: target", "environment: tarjet", 1))
	p.refused("made_from", "status")
}

// A sandbox that was made anew starts from what it was copied from.
func TestASandboxMadeAnew(t *testing.T) {
	t.Parallel()
	const rows = "INSERT INTO items (code, name, changed, who) VALUES ('A','a','2026-01-01 10:00:00','ruth'),('B','b','2026-01-01 10:00:00','ruth');"
	for _, form := range []string{"flow", "block"} {
		p := newPlace(t, stampedItems, itemTable+rows+"INSERT INTO items (code, name) VALUES ('DRAFT','d'); UPDATE items SET name = 'mine' WHERE code = 'B'", itemTable+rows)
		if form == "block" {
			p.write("anagram.yaml", "environments:\n  source: # mine\n    connect: \"sqlite:source.db\"\n    made_from: {environment: target, on: 2020-01-01}\n\n  target: {connect: \"sqlite:target.db\"}\n")
		}
		p.must(3, "match", "source", "--against", "target", "--name", "old")
		p.refused("Say from which environment, and when", "env", "renewed", "source")
		p.refused("is neither a date such as", "env", "renewed", "source", "--from", "target", "--on", "soon")
		p.refused("is none that this workspace exported from target", "env", "renewed", "source", "--from", "target", "--on", "2026-06-01", "--parcel", "old")
		p.must(0, "export", "target", "--name", "backup")
		p.sql("source", "DELETE FROM items;"+rows)
		args := []string{"env", "renewed", "source", "--from", "target", "--on", "2026-06-01"}
		if form == "block" {
			args = append(args, "--parcel", "backup")
		}
		r := p.must(0, args...)
		said := words(r.out)
		assert.Contains(t, said, "source was made anew from target, 2026-06-01 23:59 UTC; anagram.yaml says so.")
		assert.Contains(t, said, "Docket 1: 2 open findings declined, as it is about the old source.")
		assert.Contains(t, said, "By parcel old the old source had 1 record that the new one lacks, and 1 record with other values. item/DRAFT")
		text := string(p.read("anagram.yaml"))
		assert.Contains(t, text, "made_from: {environment: target, on: 2026-06-01}")
		assert.Equal(t, 1, strings.Count(text, "made_from"))
		assert.Equal(t, form == "block", strings.Contains(text, "# mine"))
		assert.Equal(t, form == "block", strings.Contains(said, "What both have in common is taken from parcel backup: 2 records."))
		p.as("mara", 0, "match", "source", "--against", "target", "--name", "fresh")
		// With the parcel it is known even where nobody leaves a stamp; without it stamps tell.
		p.sql("target", "UPDATE items SET name = 'silent' WHERE code = 'A'")
		assert.Equal(t, []string{"target-edit"}, p.reasonOf("item/A"))
		doc := p.json(0, "env", "renewed", "source", "--from", "target", "--on", "2026-06-02")
		assert.Equal(t, "2026-06-02T23:59:59Z", doc["on"])
		assert.Empty(t, doc["lacking"].([]any))
	}
}
