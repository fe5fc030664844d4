package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/demo/service"
)

// The demo walks the whole job over the web as well.
func TestTheDemoWalksOverTheWeb(t *testing.T) {
	t.Parallel()
	for _, over := range []string{"both", "sandbox", "production"}[:full(map[bool]int{true: 1}[thorough], 3)] {
		t.Run(over, func(t *testing.T) {
			t.Parallel()
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			r := p.must(0, "demo", "--over-web", over)
			assert.Contains(t, r.out, "OData service, version 4.01")
			assert.Equal(t, over == "sandbox", strings.Contains(r.out, "anagram import --rehearse"))
		})
	}
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.refused("--over-web takes sandbox, production or both", "demo", "--over-web", "all")
	p.refused("--ignore: \"all\" is none of filter", "demo", "service", "--ignore", "all")
	p.refused("is no way to fail", "demo", "service", "--fail", "often=1")
	p.refused("other machines could reach 0.0.0.0:1", "demo", "service", "--listen", "0.0.0.0:1")
	p.refused("--account needs --password-env", "demo", "service", "--account", "anna")
	p.refused("there is no", "demo", "service", "--data", "nowhere")
}

// What somebody else saves while an import is at work is left out and named; the next match finds
// it.
func TestRecordsThatChangeWhileAServiceIsWritten(t *testing.T) {
	t.Parallel()
	tables := "CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(40), updated_at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP);"
	rows := func(from, to, first int, name string) string {
		return fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT %d UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO items (id, code, name) SELECT i + %d, 'I' || i, '%s ' || i FROM n;", from, to, first, name)
	}
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, stamp: {at: updated_at}}\n", tables+rows(1, 60, 0, "new"), tables+rows(1, 40, 100, "old"))
	s := toService(p, service.Options{NoBatch: true})
	p.must(3, "match", "source", "--against", "target")
	p.must(0, "approve", "1", "*", "--take", "source")
	s.SetFail(service.Fail{Touch: 0.5, Seed: 1})
	left := p.json(5, "import", "1")["left_out"].([]any)
	s.SetFail(service.Fail{})
	for _, one := range left {
		assert.Equal(t, "moved-since-match", one.(map[string]any)["why"])
	}
	assert.Less(t, len(left), 40, "some were not touched")
	p.must(3, "match", "source", "--against", "target")
	assert.Len(t, p.review(), len(left))
	p.must(0, "approve", "2", "*", "--take", "source")
	p.must(0, "import", "2")
	p.must(0, "match", "source", "--against", "target")
	assert.Equal(t, p.rows("source", "SELECT code, name FROM items ORDER BY 1"), p.rows("target", "SELECT code, name FROM items ORDER BY 1"))
}
