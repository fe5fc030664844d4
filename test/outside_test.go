package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A record that the source took out of scope and the target still has in it is told from
// one that the source does not have.
func TestRetiredInSource(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: id, only: \"state == 'A'\"}\n  part: {at: parts, key: [item_id, no], id: id, refers: {item_id: item}, part_of: item}\n",
				"CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9), state VARCHAR(1))", "CREATE TABLE parts (id INTEGER PRIMARY KEY, item_id INTEGER, no INTEGER)")
			run(t, source, "INSERT INTO items VALUES (1,'A','A'),(2,'B','R'),(3,'D','R')", "INSERT INTO parts VALUES (1,2,1)")
			run(t, target, "INSERT INTO items VALUES (5,'A','A'),(6,'B','A'),(7,'C','A')", "INSERT INTO parts VALUES (1,6,1)")
			p.must(0, "export", "source", "--name", "p", "--as-folder")
			assert.Equal(t, "[\"B\"]\n[\"D\"]\n", string(p.read("parcels/p/outside/item.jsonl")))
			validate(t, "manifest", string(p.read("parcels/p/parcel.json")))
			reasons := func() {
				p.must(0, "match", "p", "--against", "target")
				f := p.review()
				assert.Equal(t, []string{"retired-in-source"}, f["item/B"].Reasons)
				assert.Empty(t, f["item/C"].Reasons)
				assert.Equal(t, "target-only", f["item/B"].Status)
				list := words(p.must(0, "review", "--removals").out)
				assert.Contains(t, list, "item/B out of scope 1 above to see")
				assert.Contains(t, list, "item/C not there to see")
			}
			reasons()
			p.must(0, "parcel", "reseal", "p", "--note", "looked through")
			reasons()
			p.must(0, "parcel", "verify", "p")
			p.write("parcels/p/outside/item.jsonl", "[\"B\"]\n[\"C\"]\n")
			p.must(1, "parcel", "verify", "p")
			p.must(1, "match", "p", "--against", "target")
		})
	}
}
