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
	assert.Contains(t, words(r.out), "1 finding decided otherwise before", "what this person declined")
	assert.Contains(t, r.out, "2 findings of docket 1 approved", "what somebody else approved is approved by both")
	assert.Equal(t, []string{"jonas", "mara"}, p.review()["unit/mg"].Approvers)
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
	assert.True(t, strings.HasPrefix(r.out, `{"`), "one document and nothing else")
	assert.NotContains(t, r.out+r.err, "\x1b", "no colours where nobody sees them")
	for _, args := range [][]string{{"status", "--json"}, {"history", "--json"}, {"history", "1", "--json"}, {"env", "list", "--json"}, {"env", "test", "--json"}, {"catalog", "show", "--json"},
		{"catalog", "show", "assay", "--json"}, {"catalog", "check", "--json"}, {"parcel", "list", "--json"}, {"parcel", "verify", "p", "--json"}, {"hold", "unit/kg", "--json"}, {"version", "--json"}} {
		assert.NotEmpty(t, p.json(0, args...), "%v", args)
	}
}

// A docket is complete in itself: an approver who has nothing else reviews and decides
// it, sends it back, and what was decided there is read in.
func TestADocketCanBeSentToSomebodyElse(t *testing.T) {
	t.Parallel()
	for name, over := range map[string]bool{"beside": false, "put over one's own": true} {
		t.Run(name, func(t *testing.T) {
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

			from := "sent.docket"
			if over {
				from = "dockets/0001.docket"
				p.write(from, string(away.read("sent.docket")))
				assert.Contains(t, words(p.must(1, "review").err), "it holds decisions that this workspace did not write. Where they were made elsewhere, read them in with: anagram decide 1 --from")
				p.must(1, "import")
			} else {
				p.write(from, string(away.read("sent.docket")))
				p.refused("it is a copy. Read its decisions in with: anagram decide 1 --from", "import", "sent.docket")
			}
			assert.Contains(t, words(p.must(0, "decide", "1", "--from", from).out), "3 decisions by jonas read into docket 1 from "+from)
			f := p.review()["unit/kg"]
			assert.Equal(t, []string{"approved", "jonas", "from afar"}, []string{f.Decision, f.DecidedBy, f.Note})
			doc := p.json(0, "import")
			assert.Equal(t, map[string]any{"new": 2.0, "changed": 1.0}, doc["written"])
		})
	}
}

// Decisions of several copies come together in any order; a decline wins, and sides that
// differ are named.
func TestDecisionsOfSeveralCopies(t *testing.T) {
	t.Parallel()
	for _, order := range [][]string{{"jonas", "ida"}, {"ida", "jonas"}} {
		p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
			fieldsTable+"INSERT INTO items (code, f1, f2) VALUES ('A','s','s'),('B','s','s'),('C','s','s'),('D','s','s');",
			fieldsTable+"INSERT INTO items (code, f1, f2) VALUES ('A','t','t'),('B','t','t'),('C','t','t'),('D','t','t');")
		p.must(3, "match", "source", "--against", "target", "--name", "p")
		sent := string(p.read("dockets/0001.docket"))
		for who, decides := range map[string][][]string{
			"jonas": {{"approve", "*"}, {"decline", "item/B", "--note", "no"}, {"approve", "item/D", "--take", "source"}},
			"ida":   {{"approve", "item/B"}, {"approve", "item/D", "--take", "target"}, {"decline", "item/C", "--field", "f2"}},
		} {
			away := &place{t: t, dir: t.TempDir(), user: who}
			away.write("x.docket", sent)
			for _, args := range decides {
				away.must(0, append([]string{args[0], "x.docket"}, args[1:]...)...)
			}
			p.write(who+".docket", string(away.read("x.docket")))
		}
		p.must(0, "approve", "item/A")
		r := p.must(0, "decide", "--from", order[0]+".docket", "--from", order[1]+".docket")
		assert.Contains(t, words(r.out), "item/D stays open, as different sides are wanted:")
		again := p.must(0, "decide", "--from", order[1]+".docket")
		assert.Contains(t, words(again.out), "has no decision that docket 1 does not have.")
		f := p.review()
		assert.Equal(t, []string{"approved", "declined", "approved", "open"}, []string{f["item/A"].Decision, f["item/B"].Decision, f["item/C"].Decision, f["item/D"].Decision}, "%v", order)
		assert.Equal(t, "declined", f["item/C"].Fields[1].Decision)
		assert.Equal(t, "jonas", f["item/B"].DecidedBy)
		p.must(0, "import")
		assert.Equal(t, []string{"A s s", "B t t", "C s t", "D t t"}, p.rows("target", "SELECT code, f1, f2 FROM items ORDER BY 1"))
	}

	// What shows something else decides nothing, and neither does what was altered.
	p := fieldsPlace(t)
	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.docketFile("copy.docket", "UPDATE findings SET title = 'something else'")
	p.refused("copy.docket is no copy of docket 1: what it shows differs", "decide", "--from", "copy.docket")
	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.docketFile("copy.docket", "INSERT INTO decisions (at, who, finding, field, decision, note) VALUES ('2026-01-01T00:00:00Z', 'jonas', 1, '', 'approved', '')")
	assert.Contains(t, words(p.must(1, "decide", "--from", "copy.docket").err), "the docket was altered")
}
