package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lab is a workspace in which something is new with parts and with what waits for it, changed,
// removed, renamed and missing.
func lab(t *testing.T) *place {
	file := func(name string) string {
		text, err := os.ReadFile(filepath.Join("testdata", "lab", name))
		require.NoError(t, err)
		return string(text)
	}
	p := newPlace(t, file("catalog.yaml"), file("source.sql"), file("target.sql"))
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	return p
}

// Every finding is in one group, that of what a person decides it with.
func TestFindingsAreInGroups(t *testing.T) {
	t.Parallel()
	p := lab(t)
	groups := map[string][]string{}
	for address, f := range p.review() {
		groups[f.Group] = append(groups[f.Group], address)
	}
	assert.ElementsMatch(t, []string{"unit/mg", "assay/NEW", "range/NEW/F", "range/NEW/M", "rule/R1", "rule/R2"}, groups["unit/mg"])
	assert.ElementsMatch(t, []string{"range/GLU/F", "range/GLU/M"}, groups["assay/GLU"], "parts of a record that is the same")
	assert.ElementsMatch(t, []string{"assay/GONE", "range/GONE/F", "range/GONE/M"}, groups["assay/GONE"])
	assert.ElementsMatch(t, []string{"assay/OLD2"}, groups["assay/OLD2"])

	text := p.must(0, "review", "--sort", "size")
	assert.Contains(t, text.out, "12 findings in 4 groups.")
	assert.Less(t, strings.Index(text.out, "unit/mg"), strings.Index(text.out, "assay/GONE"))
	p.refused(`--sort "sise" is not known; did you mean "size"?`, "review", "--sort", "sise")

	r := p.must(0, "approve", "--group", "unit/mg", "--note", "the new one")
	assert.Contains(t, r.out, "6 findings of docket 1 approved (6 new).")
	assert.NotContains(t, r.out, "cannot be imported")
	r = p.must(0, "decline", "--group", "range/GONE/F") // any record of it names it
	assert.Contains(t, r.out, "3 findings of docket 1 declined (3 target-only).")
	p.refused("takes one record's address", "approve", "--group", "assay/*")
	p.refused("has no group of assay/XX", "approve", "--group", "assay/XX")
	p.must(0, "approve", "--group", "assay/GLU", "--field", "low")
	assert.Contains(t, p.must(0, "review", "--decision", "open").out, "1 finding. Decisions: 1 open")
	p.must(0, "import")
	assert.Equal(t, []string{"GLU F 5", "GLU M 6", "GONE F 1", "GONE M 2", "NEW F 7", "NEW M 8"}, p.rows("target", "SELECT a.code, r.sex, r.low FROM ranges r JOIN assays a ON a.id = r.assay ORDER BY 1, 2"))
}

// Parts and needs are decided with a record where that is asked for, and named.
func TestWhatBelongsToARecordIsDecidedWithIt(t *testing.T) {
	t.Parallel()
	p := lab(t)
	r := p.must(0, "approve", "assay/NEW")
	assert.Contains(t, words(r.out), "reference-not-approved: assay/NEW refers to unit/mg")
	p.must(0, "reopen", "assay/NEW")
	r = p.must(0, "approve", "rule/R1", "--with-needs")
	assert.Contains(t, words(r.out), "3 findings of docket 1 approved (3 new). 2 records that they need among them: unit/mg, assay/NEW.")
	r = p.must(0, "hold", "assay/NEW", "--with-parts", "--note", "wait")
	assert.Contains(t, words(r.out), "3 findings of docket 1 held (3 new). 2 parts among them: range/NEW/F, range/NEW/M.")
	assert.Contains(t, words(r.out), "1 approved record cannot be imported as things stand now: reference-not-approved: rule/R1 refers to assay/NEW")
	p.must(0, "approve", "rule/R2")
	text := words(p.must(0, "review", "--check", "reference-not-approved").out)
	assert.Equal(t, 1, strings.Count(text, "blocker reference-not-approved"), "said once: %s", text)
	assert.Contains(t, text, "So it is with 1 more record. Approve assay/NEW")
	r = p.must(0, "approve", "assay/NEW", "--with-parts", "--again")
	assert.Contains(t, words(r.out), "No longer in the way: reference-not-approved of rule/R1, rule/R2.")
	p.must(0, "import")
	p.refused(`The check "value-token" is not known; did you mean "value-taken"?`, "review", "--check", "value-token")
	p.refused(`The decision "aproved" is not known; did you mean "approved"?`, "review", "--decision", "aproved")
}

// A decision that is taken back is as if it had not been made, and stays in the log.
func TestDecisionsAreTakenBack(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "decline", "range/GLU/F", "--field", "low")
	p.must(0, "approve", "range/GLU/*", "--again")
	p.must(0, "approve", "range/GLU/F")
	p.must(0, "hold", "range/GLU/F", "--field", "low")
	r := p.must(0, "reopen", "range/GLU/F")
	assert.Contains(t, r.out, "1 finding of docket 1 opened again (1 changed).")
	assert.Equal(t, "open", p.review()["range/GLU/F"].Decision)
	assert.Equal(t, "approved", p.review()["range/GLU/M"].Decision)
	p.must(0, "approve", "range/GLU/F") // the field as well: what was held was taken back
	assert.Empty(t, p.review()["range/GLU/F"].Fields[0].Decision)
	r = p.must(0, "reopen", "range/GLU/F", "--field", "low")
	assert.Contains(t, r.out, "Field low of 1 finding")
	assert.Equal(t, "open", p.review()["range/GLU/F"].Fields[0].Decision)
	p.must(0, "import")
	assert.Equal(t, []string{"F 1", "M 6"}, p.rows("target", "SELECT sex, low FROM ranges WHERE assay = 8 ORDER BY 1"))
	r = p.must(0, "reopen", "unit/mg")
	assert.Contains(t, r.out, "0 findings of docket 1 opened again; what was named is open as it is.")
	assert.Contains(t, p.must(0, "history", "1").out, "imported")
}

func TestCommentsAreKeptAndJoined(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "comment", "assay/NEW", "Which kit?\nThe old one?")
	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.user = "ida"
	p.must(0, "comment", "copy.docket", "assay/NEW", "The blue one.")
	p.user = "mara"
	assert.Contains(t, p.must(0, "decide", "1", "--from", "copy.docket").out, "1 comment read into docket 1")
	assert.Contains(t, p.must(0, "decide", "1", "--from", "copy.docket").out, "has no decision that docket 1 does not have")
	f := p.review()["assay/NEW"]
	if assert.Len(t, f.Comments, 2) {
		assert.Equal(t, "mara Which kit?\nThe old one?", f.Comments[0].By+" "+f.Comments[0].Text)
		assert.Equal(t, "ida The blue one.", f.Comments[1].By+" "+f.Comments[1].Text)
	}
	assert.Equal(t, "open", f.Decision)
	text := p.must(0, "review", "--only", "assay/NEW").out
	assert.Contains(t, text, `mara, `)
	assert.Contains(t, text, `Which kit?\nThe old one?`)
	p.refused("is a pattern", "comment", "assay/*", "x")
	p.refused("has no finding of assay/XX", "comment", "assay/XX", "x")
	p.refused("is an empty text", "comment", "assay/NEW", " ")
	p.refused("10000 are the most", "comment", "assay/NEW", strings.Repeat("x", 10_001))
	p.refused("10000 are the most", "hold", "assay/NEW", "--note", strings.Repeat("x", 10_001))
	p.docket(1, "UPDATE comments SET text = 'The red one.' WHERE seq = 2")
	p.refused("its comments are not as its log says", "review")
}

// Decisions by rule are made when a docket is matched, and are nobody's.
func TestStandingRules(t *testing.T) {
	t.Parallel()
	p := lab(t)
	config := string(p.read("anagram.yaml"))
	p.write("anagram.yaml", config+"standing:\n  - {decide: hold, only: 'rule/*', note: later}\n  - {decide: approve, type: range, status: [changed, new]}\n  - {decide: decline, type: range, status: target-only}\n  - {decide: approve, only: 'range/GONE/*', take: source}\n")
	p.must(0, "decline", "rule/R2", "--note", "by hand")
	r := p.must(3, "match", "p", "--against", "target")
	assert.Contains(t, words(r.out), "1 finding declined or held as before")
	assert.Contains(t, r.out, "7 findings decided by standing rules of anagram.yaml.")
	f := p.review()
	assert.Equal(t, "held later", f["rule/R1"].Decision+" "+f["rule/R1"].Note)
	assert.Equal(t, "declined by hand", f["rule/R2"].Decision+" "+f["rule/R2"].Note)
	assert.Equal(t, "approved", f["range/GLU/F"].Decision)
	assert.Equal(t, "declined", f["range/GONE/F"].Decision)
	assert.True(t, f["range/GLU/F"].ByRule)
	assert.Empty(t, f["range/GLU/F"].Approvers)
	assert.Contains(t, words(p.must(0, "review", "--only", "rule/R1").out), "new, held by a standing rule,")

	// The next docket asks the rules again, and takes nothing over from them.
	p.write("anagram.yaml", config)
	p.must(3, "match", "p", "--against", "target")
	assert.Equal(t, "open", p.review()["rule/R1"].Decision)
	assert.Equal(t, "declined", p.review()["rule/R2"].Decision)

	// Where approvals are demanded, those by rule are nobody's.
	p.write("anagram.yaml", guardedBy("guard: {approvals: 1}")+"standing:\n  - {decide: approve, type: range, status: changed}\n")
	p.must(3, "match", "p", "--against", "target")
	assert.Contains(t, words(p.must(4, "import").out), "range/GLU/F is approved by nobody who counts; target demands the approval of one person.")
	p.must(0, "approve", "range/GLU/F") // the mend
	p.must(5, "import")

	// Of several rules about a finding one that declines wins, and one that holds before an approval.
	p.write("anagram.yaml", config+"standing:\n  - {decide: approve, type: range}\n  - {decide: hold, only: 'range/GLU/*'}\n  - {decide: decline, only: range/NEW/M}\n")
	p.must(3, "match", "p", "--against", "target")
	f = p.review()
	assert.Equal(t, []string{"approved", "held", "declined"}, []string{f["range/NEW/F"].Decision, f["range/GLU/M"].Decision, f["range/NEW/M"].Decision})
	// A person decides otherwise by deciding, and a rule never against a person.
	p.must(0, "approve", "range/NEW/M")
	assert.Equal(t, "approved mara", p.review()["range/NEW/M"].Decision+" "+p.review()["range/NEW/M"].DecidedBy)
	p.write("anagram.yaml", config+"standing:\n  - {decide: decline, type: rnage}\n")
	p.refused(`the record type "rnage" is not in the catalog; did you mean "range"?`, "match", "p", "--against", "target")
	p.write("anagram.yaml", config+"standing:\n  - {decide: decline, only: 'rnage/*'}\n")
	p.refused(`the record type "rnage" is not in the catalog`, "match", "p", "--against", "target")

	for rule, why := range map[string]string{
		"{decide: agree, type: range}":                   "decide: is approve, decline or hold",
		"{decide: hold}":                                 "say which findings it is about",
		"{decide: hold, only: 'a/%zz'}":                  "only:",
		"{decide: hold, status: chanced}":                `did you mean "changed"?`,
		"{decide: hold, type: range, take: source}":      "goes with decide: approve",
		"{decide: hold, type: range, notes: x}":          `did you mean "note"?`,
		"{decide: approve, status: conflict, take: all}": "take: is source or target",
	} {
		p.write("anagram.yaml", config+"standing:\n  - "+rule+"\n")
		p.refused(why, "status")
	}
}

// guardedBy is the configuration of a test's workspace with more said of the target.
func guardedBy(lines ...string) string {
	return "environments:\n  source: {connect: 'sqlite:source.db'}\n  target:\n    connect: sqlite:target.db\n    " + strings.Join(lines, "\n    ") + "\n"
}

// What only the target has is a list that can be worked through from top to bottom, ticked
// off, and handed on.
func TestTheRemovalList(t *testing.T) {
	t.Parallel()
	const tables = `CREATE TABLE groups (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, up INTEGER REFERENCES groups);
CREATE TABLE items (id INTEGER PRIMARY KEY, grp INTEGER NOT NULL REFERENCES groups, code TEXT NOT NULL, UNIQUE (grp, code));
`
	p := newPlace(t, "types:\n  group: {at: groups, key: [code], id: id, refers: {up: group}}\n  item: {at: items, key: [grp, code], id: id, refers: {grp: group}, part_of: group}\n",
		tables+"INSERT INTO groups VALUES (1,'KEPT',NULL);", tables+"INSERT INTO groups VALUES (1,'KEPT',NULL),(2,'B',NULL),(3,'A',2),(4,'C',3); INSERT INTO items VALUES (1,2,'x'),(2,4,'y');")
	p.must(matched, "match", "source", "--against", "target", "--name", "p")
	list := func(args ...string) string {
		return p.must(0, append([]string{"review", "--removals"}, args...)...).out
	}
	text := list()
	last := -1
	for _, record := range []string{"item/C/y", "group/C ", "group/A ", "group/B "} {
		at := strings.Index(text, "  "+record)
		assert.Greater(t, at, last, "%s has its turn: %s", record, text)
		last = at
	}
	assert.Less(t, strings.Index(text, "item/B/x"), strings.Index(text, "group/B "))
	assert.Contains(t, words(text), "group/B not there 2 above to see")
	assert.Contains(t, words(text), "Tick off what is dealt with, or stays, with: anagram decline 1 RECORD --note TEXT")
	p.must(0, "decline", "1", "group/A", "--note", "still needed by the ward") // as the list says
	assert.Contains(t, words(list()), "group/A not there 1 above declined by mara")
	assert.NotContains(t, list("--decision", "open"), "still needed")
	p.must(0, "review", "--removals", "--out", "gone.csv")
	assert.Contains(t, string(p.read("gone.csv")), "group/B")

	// The next match shows what is gone, and keeps what was ticked off.
	p.sql("target", "DELETE FROM items; DELETE FROM groups WHERE code = 'C'")
	r := p.must(matched, "match", "p", "--against", "target")
	assert.Contains(t, words(r.out), "1 finding declined or held as before")
	assert.Contains(t, r.out, "3 records of the removal list of docket 1: no longer only in target.")
	f := p.review()
	assert.Len(t, f, 2)
	assert.Equal(t, "declined still needed by the ward", f["group/A"].Decision+" "+f["group/A"].Note)
}

// Whoever has the docket alone is told what to type there.
func TestTheNextStepWithADocketAlone(t *testing.T) {
	t.Parallel()
	p := lab(t)
	alone := &place{t: t, dir: t.TempDir(), user: "ida"}
	alone.write("my docket.docket", string(p.read("dockets/0001.docket")))
	r := alone.must(0, "review", "my docket.docket", "--decision", "open")
	assert.Contains(t, r.err, "Next: anagram approve 'my docket.docket' PATTERN, or decline, or hold")
	r = alone.must(0, "approve", "my docket.docket", "*")
	assert.Contains(t, words(r.out), "See: anagram review 'my docket.docket' --removals")
	assert.Contains(t, alone.must(0, "review", "my docket.docket", "--removals").out, "assay/GONE") // the mend
	assert.Contains(t, words(r.err), "Send my docket.docket back to whoever works with the docket; there it is read in with: anagram decide 1 --from FILE")
}

// What an earlier docket approved and nobody imported is shown, and approved again at once.
func TestEarlierApprovalsAreOffered(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.as("jonas", 0, "approve", "range/GLU/*", "unit/mg")
	p.sql("source", "UPDATE ranges SET low = 66 WHERE assay = 1 AND sex = 'M'")
	r := p.must(3, "match", "source", "--against", "target", "--name", "again")
	assert.Contains(t, words(r.out), "2 findings approved in an earlier docket, on values that both sides still have. To approve again: anagram approve 2 --approved-before")
	assert.Contains(t, words(p.must(0, "review", "--only", "unit/mg").out), "new, open; approved before by jonas in docket 1, as it still is")
	assert.Equal(t, "open", p.review()["unit/mg"].Decision)
	p.must(3, "import", "2") // it counts for nothing by itself
	assert.Empty(t, p.rows("target", "SELECT code FROM units WHERE code = 'mg'"))
	r = p.must(0, "approve", "2", "--approved-before") // as it was offered
	assert.Contains(t, r.out, "2 findings of docket 2 approved (1 changed, 1 new).")
	p.must(0, "import", "2")
	assert.Equal(t, []string{"F 5", "M 2"}, p.rows("target", "SELECT sex, low FROM ranges WHERE assay = 8 ORDER BY 1"), "what changed since was not offered")
	p.docket(2, "UPDATE earlier SET who = 'ida'")
	p.refused("earlier approvals", "review", "2")
}
