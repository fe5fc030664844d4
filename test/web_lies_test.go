package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/demo/service"
)

// A service that says it wrote what it did not is found out, at the first records.
func TestAServiceThatSaysItWroteAndDidNot(t *testing.T) {
	t.Parallel()
	for _, batch := range tries(t.Name(), true, false) {
		for status, tables := range map[string][2]string{"new": {manyItems(1, 300, 0, "new"), ""}, "changed": {manyItems(1, 300, 0, "new"), manyItems(1, 300, 1000, "old")}} {
			t.Run(status, func(t *testing.T) {
				t.Parallel()
				p := newPlace(t, manyCatalog, manyTables+tables[0], manyTables+tables[1])
				s := toService(p, service.Options{Ignores: []string{"writes"}, NoBatch: !batch})
				before := p.rows("target", manyRows)
				p.must(3, "match", "source", "--against", "target")
				p.must(0, "approve", "*")
				s.Requests()
				r := p.run("import", "--json")
				assert.Equal(t, 5, r.code, r.out+r.err)
				assert.Contains(t, r.out, "written-otherwise")
				assert.Contains(t, r.out, "item/I0000001")
				assert.Equal(t, before, p.rows("target", manyRows))
				assert.NotContains(t, strings.Join(s.Log(), " "), "DELETE")
				assert.Less(t, len(s.Log()), 60, "it stops where it was found out")
			})
		}
	}
}
