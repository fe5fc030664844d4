package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// as runs a command in the name of somebody.
func (p *place) as(who string, code int, args ...string) result {
	p.t.Helper()
	other := *p
	other.user = who
	return other.must(code, args...)
}

// An import writes what as many people approved as the target demands, and leaves the rest
// out, with what depends on it.
func TestTheTargetDemandsApprovals(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2, approver_differs_from_exporter: true}", `approvers: {rules: [ida, jonas], range: [nobody], "*": [jonas, ida]}`))
	left := func(code int) map[string]string {
		t.Helper()
		out := map[string]string{}
		doc := p.json(code, "import", "--rehearse")
		for _, l := range doc["left_out"].([]any) {
			one := l.(map[string]any)
			out[one["address"].(string)] = one["why"].(string) + ": " + one["message"].(string)
		}
		return out
	}
	p.as("mara", 0, "approve", "unit/mg", "assay/NEW", "rule/R1", "range/GLU/F")
	assert.Contains(t, left(4)["unit/mg"], "approvals: unit/mg is approved by nobody who counts; target demands the approvals of 2 people. mara exported and matched it and does not count.")
	p.as("jonas", 0, "approve", "unit/mg", "assay/NEW", "rule/R1", "range/GLU/F")
	assert.Contains(t, left(4)["unit/mg"], "unit/mg is approved by jonas; target demands the approvals of 2 people.")
	r := p.as("ida", 0, "approve", "unit/mg", "rule/R1")
	assert.Contains(t, words(r.out), "No longer in the way: approvals, reference-not-approved of unit/mg, assay/NEW, rule/R1.")
	assert.Equal(t, []string{"mara", "jonas", "ida"}, p.review()["unit/mg"].Approvers)
	assert.Contains(t, words(p.must(0, "review", "--only", "unit/mg").out), "approved by ida, ")
	l := left(5)
	assert.NotContains(t, l, "unit/mg")
	assert.Contains(t, l["rule/R1"], "reference-not-approved: rule/R1 refers to assay/NEW", "what depends on what is left out is left out")
	assert.Contains(t, l["range/GLU/F"], "mara exported and matched it and does not count. jonas may not approve range; nobody may.")

	// Of one person the latest word counts, and a decline of one wins over all approvals.
	p.as("ida", 0, "approve", "assay/NEW")
	assert.NotContains(t, left(5), "rule/R1")
	p.as("ida", 0, "hold", "assay/NEW")
	assert.Contains(t, left(5)["rule/R1"], "reference-not-approved")
	p.as("jonas", 0, "approve", "assay/NEW", "--again")
	assert.Contains(t, left(5)["rule/R1"], "reference-not-approved", "ida's last word is no approval, and hers counts")
	assert.Equal(t, "held", p.review()["assay/NEW"].Decision)
	p.as("ida", 0, "approve", "assay/NEW")
	p.must(5, "import")
	assert.Equal(t, []string{"GLU", "GONE", "NEW"}, p.rows("target", "SELECT code FROM assays ORDER BY 1"))
	assert.Equal(t, []string{"R1"}, p.rows("target", "SELECT code FROM rules"))
}

// A name is one person however it is written, and who edited a parcel is none of its approvers.
func TestOnePersonIsNotTwo(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "export", "source", "--name", "edited", "--as-folder")
	p.write("parcels/edited/records/range.jsonl", strings.Replace(string(p.read("parcels/edited/records/range.jsonl")), `"low":5`, `"low":55`, 1))
	p.as("Ida", 0, "parcel", "reseal", "edited", "--note", "a slip")
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2, approver_differs_from_exporter: true}"))
	p.must(3, "match", "edited", "--against", "target")
	for _, who := range []string{"jonas", "Jonas", " JONAS ", "ida", "Mara"} {
		p.as(who, 0, "approve", "range/GLU/F")
	}
	text := words(p.must(4, "import").out)
	assert.Contains(t, text, "range/GLU/F is approved by jonas; target demands the approvals of 2 people.")
	assert.Contains(t, text, "ida edited it and does not count.")
	assert.Contains(t, text, "Mara exported and matched it and does not count.")
	p.as("otto", 0, "approve", "range/GLU/F") // the mend
	p.must(0, "import")
	assert.Equal(t, []string{"55"}, p.rows("target", "SELECT low FROM ranges WHERE assay = 8 AND sex = 'F'"))
}

// Every field that is written is approved by as many people as are demanded.
func TestApprovalsCountFieldByField(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, a TEXT, b TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('X','new','new'),('N','n',NULL)", table+"INSERT INTO items VALUES ('X','old','old')")
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2}"))
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.as("jonas", 0, "approve", "item/X", "--field", "a")
	p.as("ida", 0, "approve", "item/X", "--field", "b")
	assert.Contains(t, words(p.must(4, "import").out), "item/X is approved by nobody who counts")
	p.as("ida", 0, "approve", "item/X", "--field", "a")
	assert.Contains(t, words(p.must(4, "import").out), "item/X is approved by ida;", "jonas never approved field b")
	p.as("jonas", 0, "approve", "item/X")
	p.as("jonas", 0, "approve", "item/N")
	p.as("ida", 0, "approve", "item/N")
	p.as("ida", 0, "decline", "item/N", "--field", "a")
	assert.Contains(t, p.must(0, "import").out, "1 new and 1 changed records")
	assert.Equal(t, []string{"N null null", "X new new"}, p.rows("target", "SELECT code, a, b FROM items ORDER BY 1"))
}

// What a copy says was approved counts like what was approved here, load files included.
func TestApprovalsFromCopiesCount(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2}"))
	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.as("jonas", 0, "approve", "range/GLU/*")
	p.as("ida", 0, "approve", "copy.docket", "range/GLU/F")
	assert.Contains(t, words(p.must(4, "import", "--into-files", "load").out), "range/GLU/F is approved by jonas; target demands")
	assert.NoDirExists(t, p.path("load"))
	p.must(0, "decide", "1", "--from", "copy.docket")
	assert.Equal(t, []string{"jonas", "ida"}, p.review()["range/GLU/F"].Approvers)
	r := p.must(5, "import")
	assert.Contains(t, words(r.out), "range/GLU/M is approved by jonas;")
	assert.Equal(t, []string{"F 5", "M 2"}, p.rows("target", "SELECT sex, low FROM ranges WHERE assay = 8 ORDER BY 1"))
}

func TestWhatAGuardCannotSay(t *testing.T) {
	t.Parallel()
	p := lab(t)
	for line, why := range map[string]string{
		"guard: {approvals: -1}":     "approvals: is a number from 0 to 9",
		"guard: {approval: 1}":       `did you mean "approvals"?`,
		"guard: {approvals: many}":   "a text stands where a whole number is expected",
		`approvers: {"*": [" "]}`:    "holds an empty name",
		"approvers: {ranges: [ida]}": `did you mean "range"?`,
		"imports: allowed":           `word for imports: "allowed"`,
	} {
		p.write("anagram.yaml", guardedBy(line))
		r := p.run("review")
		assert.Equal(t, 2, r.code, line)
		assert.Contains(t, words(r.err), why, line)
	}
}

// Records go the way they went before, unless somebody says where to.
func TestTheDirectionIsLookedAt(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "approve", "range/GLU/F")
	p.must(0, "import", "--to", "target")
	r := p.must(3, "match", "target", "--against", "source", "--name", "back")
	assert.Contains(t, words(r.out), "caution direction: So far records were brought from source to target, last by docket 1. This match brings them the other way, from target into source. If that is meant, the import is: anagram import 2 --to source")
	p.must(0, "approve", "assay/GONE")
	assert.Contains(t, words(p.must(4, "import", "2").err), "anagram import 2 --to source")
	assert.Contains(t, words(p.must(4, "import", "2", "--to", "target").err), "Docket 2 goes to source, not to target.")
	p.must(4, "import", "2", "--rehearse")
	p.must(0, "import", "2", "--to", "source") // the mend
	assert.Equal(t, []string{"GLU", "GONE", "NEW", "OLD2"}, p.rows("source", "SELECT code FROM assays ORDER BY 1"))
	p.must(3, "match", "back", "--against", "source")
	p.must(0, "approve", "range/GONE/F")
	p.must(0, "import") // both ways are known by now

	// An environment that is only ever a source is none to import into, whoever asks.
	p.write("anagram.yaml", "environments:\n  source: {connect: 'sqlite:source.db', imports: refused}\n  target: {connect: 'sqlite:target.db'}\n")
	p.must(3, "match", "back", "--against", "source")
	p.must(0, "approve", "4", "range/GONE/M")
	for _, args := range [][]string{{"import", "4"}, {"import", "4", "--rehearse"}, {"import", "4", "--to", "source"}, {"import", "4", "--into-files", "load"}} {
		assert.Contains(t, words(p.must(4, args...).err), "source is only ever a source: anagram.yaml refuses imports into it.", "%v", args)
	}
	assert.Contains(t, p.must(0, "review").err, "The newest docket is 1.", "the others lead to a source")
	p.must(3, "match", "p", "--against", "back")
	assert.Contains(t, p.must(0, "review").err, "The newest docket is 1.", "a comparison is never meant")
	assert.Contains(t, p.must(0, "review", "5").out, "Docket 5")
	status := p.must(0, "status")
	assert.NotContains(t, status.out, "     4  ")
	assert.Contains(t, status.out, "docket  from    to      matched")
	assert.Contains(t, words(status.out), "1 source target")
}

func TestStatusSaysWhatWaitsForWhom(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("anagram.yaml", guardedBy(`approvers: {rules: [ida], "*": [jonas]}`))
	assert.Contains(t, words(p.must(0, "status").out), "9 decisions of ida, jonas")
	p.must(0, "approve", "range/GLU/F")
	p.must(3, "match", "p", "--against", "target")
	text := words(p.must(0, "status").out)
	assert.Contains(t, text, "import of 1 approved record")
	doc := p.json(0, "status")
	assert.Len(t, doc["waiting"], 2)
	p.as("jonas", 0, "approve", "2", "range/*")
	p.must(5, "import", "2")
	assert.Contains(t, p.must(0, "status").err, "Next: anagram review 2 --decision open", "an import of a part is not the end")
	p.as("jonas", 0, "decline", "2", "*")
	assert.Contains(t, p.must(0, "status").err, "Next: anagram match p --against target")
}

// Of one person the latest word counts, by when it was said and not by when it was read in.
func TestAnOlderApprovalComesLate(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2}"))
	answers := func(name, person, decision, at string) {
		p.write(name, `{"anagram":"answers","version":1,"docket":1,"digest":"`+p.digestOnce()+`","person":"`+person+`","answers":[{"address":"range/GLU/F","decision":"`+decision+`","at":"`+at+`"}]}`)
	}
	answers("new.json", "jonas", "hold", "2026-11-25T09:00:00Z")
	answers("old.json", "jonas", "approve", "2026-11-25T08:00:00Z")
	p.must(0, "decide", "1", "--from", "new.json")
	p.must(0, "decide", "1", "--from", "old.json")
	assert.Equal(t, "held", p.review()["range/GLU/F"].Decision)
	r := p.as("ida", 0, "approve", "range/GLU/F")
	assert.Contains(t, words(r.out), "1 finding approved by this and declined or held by others, which counts: range/GLU/F (jonas).")
	assert.Equal(t, "held", p.review()["range/GLU/F"].Decision)
	assert.Contains(t, p.as("ida", 2, "approve", "range/GLU/F", "--overrule").err, "--overrule needs a note")
	p.as("ida", 0, "approve", "range/GLU/F", "--overrule", "--note", "the ward waits for it")
	assert.Contains(t, words(p.must(4, "import").out), "range/GLU/F is approved by ida; target demands the approvals of 2 people.")
	p.as("otto", 0, "approve", "range/GLU/F")
	p.must(0, "import")
}
