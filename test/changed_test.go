package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Who changed a record last on either side, and when, is told wherever a finding is shown.
func TestWhoChangedItAndWhen(t *testing.T) {
	t.Parallel()
	p := newPlace(t, stampedItems,
		itemTable+"INSERT INTO items (code, name, changed, who) VALUES ('A','new','2026-03-01 10:00:00','ida'),('N','n','2026-05-01 10:00:00','ida')",
		itemTable+"INSERT INTO items (code, name, changed, who) VALUES ('A','old','2026-01-01 10:00:00','ruth'),('T','t','2026-02-01 10:00:00',NULL)")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), `"sqlite:target.db"`, `"sqlite:target.db", zone: Europe/Berlin`, 1))
	p.must(3, "match", "source", "--against", "target", "--name", "first")
	both := "source 2026-03-01 10:00 (local) by ida, target 2026-01-01 10:00 CET by ruth"
	text := words(p.must(0, "review", "--full").out)
	assert.Contains(t, text, "last changed: "+both)
	assert.Contains(t, text, "last changed: source 2026-05-01 10:00 (local) by ida")
	assert.Contains(t, text, "last changed: target 2026-02-01 10:00 CET")
	p.must(0, "review", "--out", "r.html")
	assert.Contains(t, string(p.read("r.html")), "Last changed: "+both)
	p.must(0, "review", "--out", "r.csv")
	assert.Contains(t, string(p.read("r.csv")), both)
	p.must(0, "decide", "--from", "r.csv")
	s := p.reviewed(120, 40)
	s.shows("last changed: source")
	s.leave()

	a := p.review()["item/A"]
	assert.Equal(t, []changed{{"source", "2026-03-01T10:00:00", "", "ida", 0}, {"target", "2026-01-01T10:00:00", "Europe/Berlin", "ruth", 0}}, a.Changed)
	found := func(args ...string) []string {
		var out []string
		for address := range p.review(args...) {
			out = append(out, address)
		}
		return out
	}
	assert.ElementsMatch(t, []string{"item/A", "item/N"}, found("--changed-by", "Ida"))
	assert.ElementsMatch(t, []string{"item/A"}, found("--changed-by", "ruth"))
	assert.ElementsMatch(t, []string{"item/A", "item/N"}, found("--changed-since", "2026-03-01"))
	assert.ElementsMatch(t, []string{"item/N"}, found("--changed-since", "2026-03-01T10:00:01Z"))
	assert.ElementsMatch(t, []string{"item/A"}, found("--changed-since", "2026-02-15", "--changed-by", "ida", "--status", "changed"))
	assert.Contains(t, p.must(0, "approve", "--changed-by", "ida", "--status", "new").out, "1 finding of docket 1 approved")
	p.refused("is neither a date such as 2026-11-23 nor a time", "review", "--changed-since", "yesterday")

	// What an import wrote is said to be its doing.
	p.must(0, "approve", "item/A")
	p.must(0, "import")
	p.sql("source", "UPDATE items SET name = 'newer' WHERE code = 'A'")
	p.must(3, "match", "source", "--against", "target", "--name", "second")
	assert.Contains(t, words(p.must(0, "review", "--full").out), "by the import of docket 1")
	assert.Equal(t, 1, p.review()["item/A"].Changed[1].Docket)
	assert.Empty(t, found("--changed-by", "mara"))
}
