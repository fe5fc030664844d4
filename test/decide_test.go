package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func reviewed(t *testing.T) *place {
	p := plainPlace(t)
	p.sql("source", "INSERT INTO units VALUES (3,'kg','kilogram'); UPDATE assays SET low = 3, day = '2026-05-05' WHERE code = 'NA'")
	p.must(0, "export", "source", "--name", "p")
	p.must(3, "match", "p", "--against", "target")
	return p
}

func TestDecisionsCarryNameTimeAndNote(t *testing.T) {
	t.Parallel()
	p := reviewed(t)
	p.user = "jonas"
	p.must(0, "approve", "1", "unit/*", "--note", "seen with the ward")
	f := p.review()["unit/kg"]
	assert.Equal(t, "approved", f.Decision)
	assert.Equal(t, "jonas", f.DecidedBy)
	assert.Equal(t, "seen with the ward", f.Note)
	p.user = "mara"
	p.must(0, "decline", "unit/kg", "--note", "on second thoughts")
	f = p.review()["unit/kg"]
	assert.Equal(t, "declined", f.Decision, "a record named in full is decided anew")
	assert.Equal(t, "mara", f.DecidedBy)
	r := p.must(0, "approve", "unit/*")
	assert.Contains(t, r.out, "0 findings of docket 1 approved")
	assert.Contains(t, words(r.out), "1 finding decided otherwise before")
	assert.Equal(t, "declined", p.review()["unit/kg"].Decision, "a pattern leaves earlier decisions alone")
	p.must(0, "approve", "unit/*", "--again")
	assert.Equal(t, "approved", p.review()["unit/kg"].Decision)
}

func TestDecisionsOnFields(t *testing.T) {
	t.Parallel()
	p := reviewed(t)
	p.must(0, "approve", "assay/NA")
	p.must(0, "decline", "assay/NA", "--field", "low")
	f := p.review()["assay/NA"]
	require.Len(t, f.Fields, 2)
	assert.Equal(t, []string{"", "declined"}, []string{f.Fields[0].Decision, f.Fields[1].Decision})
	assert.Contains(t, p.must(0, "review", "--only", "assay/NA").out, "1 of 2 fields approved")
	p.must(0, "approve", "assay/GLU", "unit/mg")
	p.must(0, "decline", "assay/GLU", "--field", "day")
	p.must(0, "import")
	assert.Equal(t, []string{"GLU 1.5 null", "NA 2 2026-05-05"}, p.rows("target", "SELECT code, low, +day FROM assays ORDER BY 1"))
}

func TestSelectingFindings(t *testing.T) {
	t.Parallel()
	p := reviewed(t)
	addresses := func(args ...string) []string {
		var out []string
		for line := range strings.Lines(p.must(0, append([]string{"review", "--json"}, args...)...).out) {
			out = append(out, line[len(`{"address":"`):strings.Index(line, `","type"`)])
		}
		return out
	}
	assert.Equal(t, []string{"unit/g", "unit/kg", "unit/mg", "assay/NA", "assay/GLU"}, addresses(), "by type, status, key")
	assert.Equal(t, []string{"unit/g", "assay/NA"}, addresses("--status", "changed"))
	assert.Equal(t, []string{"assay/NA", "assay/GLU"}, addresses("--type", "assay"))
	assert.Equal(t, []string{"unit/kg"}, addresses("--only", "unit/k*", "--status", "new"))
	assert.Contains(t, p.must(0, "review", "--only", "unit/x*").out, "No finding fits.")
	p.refused(`status "chnged" is not known; did you mean "changed"?`, "review", "--status", "chnged")
	p.refused(`no record type "assays"; did you mean "assay"?`, "review", "--type", "assays")
	p.refused(`no finding that fits "assay/GLUE"`, "approve", "assay/GLUE")
	p.refused(`a field "lov" that was compared; did you mean "low"?`, "approve", "assay/*", "--field", "lov")
	p.refused("say which findings", "approve")
	p.refused("question mark", "approve", "assay/?")
	assert.Equal(t, "open", p.review()["unit/kg"].Decision, "nothing was decided by what was refused")
}

func TestStreamsAreKeptApart(t *testing.T) {
	t.Parallel()
	p := reviewed(t)
	r := p.must(0, "review", "--quiet")
	assert.Empty(t, r.err)
	r = p.must(0, "review")
	assert.Contains(t, r.err, "The newest docket is 1.")
	assert.Contains(t, r.err, "Next: anagram approve 1 PATTERN")
	assert.NotContains(t, r.out, "Next:")
	r = p.must(3, "match", "p", "--against", "target", "--verbose", "--json")
	assert.Contains(t, r.err, "level=DEBUG")
	assert.True(t, strings.HasPrefix(r.out, `{"blockers"`), "one document and nothing else")
	assert.NotContains(t, r.out+r.err, "\x1b", "no colours where nobody sees them")
	for _, args := range [][]string{{"status", "--json"}, {"history", "--json"}, {"history", "1", "--json"}, {"env", "list", "--json"}, {"env", "test", "--json"}, {"catalog", "show", "--json"},
		{"catalog", "show", "assay", "--json"}, {"catalog", "check", "--json"}, {"parcel", "list", "--json"}, {"parcel", "verify", "p", "--json"}, {"hold", "unit/kg", "--json"}, {"version", "--json"}} {
		assert.NotEmpty(t, p.json(0, args...), "%v", args)
	}
}

// A docket is complete in itself: an approver who has nothing else reviews and decides
// it, sends it back, and the import goes by what was decided there.
func TestADocketCanBeSentToSomebodyElse(t *testing.T) {
	t.Parallel()
	p := reviewed(t)
	away := &place{t: t, dir: t.TempDir(), user: "jonas"}
	away.write("sent.docket", string(p.read("dockets/0001.docket")))
	text := away.must(0, "review", "sent.docket").out
	assert.Contains(t, text, "from  source")
	assert.Contains(t, text, "assay/NA")
	away.must(0, "approve", "sent.docket", "unit/*", "--note", "from afar")
	assert.Contains(t, away.must(0, "history", "sent.docket").out, "3 approved")
	away.must(2, "review")
	away.must(2, "import", "sent.docket")
	p.write("dockets/0001.docket", string(away.read("sent.docket")))
	f := p.review()["unit/kg"]
	assert.Equal(t, []string{"approved", "jonas", "from afar"}, []string{f.Decision, f.DecidedBy, f.Note})
	doc := p.json(0, "import")
	assert.Equal(t, map[string]any{"new": 2.0, "changed": 1.0}, doc["written"])
}
