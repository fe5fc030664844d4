package test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a condition picks is written as it was read when it was picked, unless something else of
// its type comes along as well: then the type is read again. Both give the same lines.
func TestWhatAConditionPicksIsWrittenAlike(t *testing.T) {
	inGate(t, "many records")
	t.Parallel()
	p := demoPlace(t)
	p.must(0, "export", "sandbox", "--name", "whole")
	all := recordsOf(p, "whole")
	lines := func(of map[string]string, typ string) []string {
		return slices.Collect(strings.Lines(of["records/"+typ+".jsonl"]))
	}
	keyOf := func(line string) string {
		var head struct{ Key []string }
		require.NoError(t, json.Unmarshal([]byte(line), &head))
		return head.Key[0]
	}
	for _, typ := range []string{"unit", "container", "panel", "instrument", "comment_code", "price_list", "role", "reflex_rule"} {
		of := lines(all, typ)
		require.GreaterOrEqual(t, len(of), 3, typ)
		limit, last := keyOf(of[len(of)/2]), keyOf(of[len(of)-1])
		where := typ + ": code <= '" + limit + "'"
		p.must(0, "export", "sandbox", "--name", "kept-"+typ, "--where", where)
		p.must(0, "export", "sandbox", "--name", "read-"+typ, "--where", where, "--record", typ+"/"+strings.ReplaceAll(last, "/", "%2F"))
		kept, read := recordsOf(p, "kept-"+typ), recordsOf(p, "read-"+typ)
		assert.Equal(t, append(slices.Clone(lines(kept, typ)), of[len(of)-1]), lines(read, typ), typ)
		assert.Equal(t, of[:len(of)/2+1], lines(kept, typ), "%s: as an export of everything tells them", typ)
		for name := range kept {
			if name != "records/"+typ+".jsonl" && strings.HasPrefix(name, "records/") {
				for line := range strings.Lines(kept[name]) {
					assert.Contains(t, read[name], line[:strings.Index(line, `,"why":`)], "%s of %s", name, typ)
				}
			}
		}
	}
	// One that cannot be told stops nothing unless it is picked.
	odd := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, day DATE); INSERT INTO items VALUES (1, 'A', '2026-01-01'), (2, 'B', 'none'), (3, 'C', NULL);", "")
	odd.must(0, "export", "source", "--name", "without", "--where", "item: code != 'B'")
	assert.Equal(t, 2, strings.Count(recordsOf(odd, "without")["records/item.jsonl"], "\n"))
	assert.Contains(t, odd.must(0, "export", "source", "--where", "item: code >= 'B'").out, `item/B, field day: "none" is not a date`)
	// One that refers to another of its own type brings it along.
	p.must(0, "export", "sandbox", "--name", "below", "--where", "department: code == 'COAG'")
	below := lines(recordsOf(p, "below"), "department")
	require.Len(t, below, 2)
	assert.Contains(t, below[0], `{"key":[null,"CORE"]`)
	assert.Contains(t, below[0], `"why":"along","through":"department/CORE/COAG`)
	assert.Contains(t, below[1], `"why":"chosen"`)
	// So does a condition that both of them fit.
	p.must(0, "export", "sandbox", "--name", "both", "--where", "department: code in ['COAG', 'CORE']")
	assert.Equal(t, 2, strings.Count(strings.Join(lines(recordsOf(p, "both"), "department"), ""), `"why":"chosen"`))
}
