package test

import (
	"anagram/internal/store/docket"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where two people are asked for, the second one says the same in the same words, and finds what
// waits for them.
func TestTheSecondPairOfEyes(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2}"))
	p.as("jonas", 0, "approve", "unit/mg", "assay/NEW", "range/NEW/*")
	found := func(user string, args ...string) []string {
		t.Helper()
		p.user = user
		defer func() { p.user = "mara" }()
		var out []string
		for address := range p.review(args...) {
			out = append(out, address)
		}
		return out
	}
	assert.ElementsMatch(t, []string{"unit/mg", "assay/NEW", "range/NEW/F", "range/NEW/M"}, found("ida", "--waits-for", "me", "--decision", "approved"))
	assert.ElementsMatch(t, []string{"unit/mg", "assay/NEW", "range/NEW/F", "range/NEW/M"}, found("mara", "--waits-for", "ida", "--decision", "approved"))
	assert.Empty(t, found("jonas", "--waits-for", "me", "--decision", "approved"), "his word is there")
	assert.NotEmpty(t, found("jonas", "--waits-for", "me"), "what nobody decided")
	assert.Len(t, found("jonas", "--by", "me"), 4)
	assert.Len(t, found("ida", "--by", "others"), 4)
	assert.Empty(t, found("jonas", "--by", "others"))

	assert.Equal(t, "waiting 1", p.review()["unit/mg"].Stands+" "+strconv.Itoa(p.review()["unit/mg"].Needs))
	assert.Len(t, p.review("--decision", "waiting"), 4)
	p.user = "ida"
	assert.Contains(t, words(p.must(0, "status").out), "more approvals of 4 records")
	assert.Regexp(t, `for you +\d+ findings wait for your word`, p.must(0, "status").out)
	p.user = "jonas"
	p.must(0, "decline", "--decision", "open")
	assert.Contains(t, p.must(0, "status").err, "Next: anagram review 1 --decision waiting", "all that is approved needs another word")
	p.user = "mara"

	// A pattern, a filter and a decision reach what only somebody else has said something of.
	for _, args := range [][]string{{"range/NEW/*"}, {"--status", "new", "--type", "unit"}, {"--decision", "approved", "--type", "assay"}} {
		r := p.as("ida", 0, append([]string{"approve"}, args...)...)
		assert.NotContains(t, r.out, "0 findings", "%v", args)
	}
	assert.Equal(t, []string{"jonas", "ida"}, p.review()["unit/mg"].Approvers)
	assert.Empty(t, found("ida", "--waits-for", "me", "--decision", "approved"))
	p.must(0, "import", "--rehearse")
}

// A word is a word in every channel: somebody's decline stands until they take it back or it is
// overruled, and everybody's word is seen.
func TestADeclineOfAnotherStands(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.as("ida", 0, "decline", "unit/mg", "--note", "not this unit")
	r := p.as("jonas", 0, "approve", "unit/mg", "--note", "needed")
	assert.Contains(t, words(r.out), "1 finding approved by this and declined or held by others, which counts: unit/mg (ida). Ask them, or approve with --overrule and a note.")
	assert.Contains(t, words(p.as("jonas", 0, "reopen", "assay/NEW").out), "what was named is open as it is")
	assert.Contains(t, words(p.as("mara", 0, "reopen", "unit/mg").out), "1 finding decided by others alone, so nothing was taken back: unit/mg (ida, jonas).")
	f := p.review()["unit/mg"]
	assert.Equal(t, "declined declined", f.Decision+" "+f.Stands)
	require.Len(t, f.Decisions, 2)
	assert.Equal(t, "ida declined not this unit", f.Decisions[0].By+" "+f.Decisions[0].Decision+" "+f.Decisions[0].Note)
	assert.Equal(t, "jonas approved needed", f.Decisions[1].By+" "+f.Decisions[1].Decision+" "+f.Decisions[1].Note)
	text := words(p.must(0, "review", "--only", "unit/mg").out)
	assert.Contains(t, text, "new, declined by ida, ")
	assert.Contains(t, text, ": not this unit jonas: approved, ")

	p.refused("--overrule needs a note", "approve", "unit/mg", "--overrule")
	p.write("anagram.yaml", guardedBy("guard: {overrule: [Otto]}"))
	p.user = "jonas"
	p.refused("jonas may not overrule decisions on target; Otto may.", "approve", "unit/mg", "--overrule", "--note", "x")
	p.user = "mara"
	p.as("otto", 0, "approve", "unit/mg", "--overrule", "--note", "the board wants it")
	f = p.review()["unit/mg"]
	assert.Equal(t, "approved otto", f.Stands+" "+f.DecidedBy)
	assert.Equal(t, "otto", f.Decisions[0].OverruledBy)
	assert.Contains(t, words(p.must(0, "review", "--only", "unit/mg").out), "ida: declined, overruled by otto, ")
	p.as("ida", 0, "decline", "unit/mg", "--note", "still not")
	assert.Equal(t, "declined", p.review()["unit/mg"].Stands, "a later decline counts again")
	p.as("otto", 0, "approve", "unit/mg", "--overrule", "--note", "it does")
	p.as("otto", 0, "reopen", "unit/mg")
	assert.Equal(t, "declined", p.review()["unit/mg"].Stands, "who overruled takes it back")
}

// The side that is said is the side that is taken, of all fields of a named record; a pattern leaves
// to the target what only the target changed, and says so.
func TestTakeSourceTakesTheSource(t *testing.T) {
	t.Parallel()
	const rows = "INSERT INTO items (code, f1, f2, f3) VALUES ('A','1','1','1'),('B','1','1','1'),('C','1','1','1');"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", fieldsTable+rows, fieldsTable+rows)
	p.must(0, "match", "source", "--against", "target", "--name", "p")
	p.sql("source", "UPDATE items SET f1 = 's'")
	p.sql("target", "UPDATE items SET f2 = 't'")
	p.must(3, "match", "source", "--against", "target", "--name", "q")
	r := p.must(0, "approve", "item/A", "--take", "source")
	assert.Contains(t, words(r.out), "The values of source are taken in 2 fields; target had changed 1 of them itself.")
	r = p.must(0, "approve", "--type", "item", "--take", "source")
	assert.Contains(t, words(r.out), "The values of source are taken in 2 fields. 2 fields left to target, as only target changed them. Name a record, or use --field, to take the source's value.")
	p.must(0, "approve", "item/C", "--field", "f2", "--take", "source") // the remedy
	p.must(0, "import")
	assert.Equal(t, []string{"A s 1", "B s t", "C s 1"}, p.rows("target", "SELECT code, f1, f2 FROM items ORDER BY 1"))

	// Two who want different sides leave the field open, on every surface.
	p.sql("source", "UPDATE items SET f3 = 's' WHERE code = 'B'")
	p.sql("target", "UPDATE items SET f3 = 't' WHERE code = 'B'")
	p.must(3, "match", "source", "--against", "target", "--name", "r")
	p.as("ida", 0, "approve", "item/B", "--take", "source")
	p.as("jonas", 0, "approve", "item/B", "--take", "target")
	f := p.review()["item/B"]
	assert.Equal(t, "open clash", f.Decision+" "+f.Stands)
	assert.Contains(t, p.review("--decision", "clash"), "item/B")
	const sides = "open, as different sides are wanted: ida for the value in source, jonas for that in target"
	assert.Contains(t, words(p.must(0, "review", "--only", "item/B").out), sides)
	p.must(0, "review", "--out", "r.csv")
	assert.Contains(t, string(p.read("r.csv")), sides)
	p.must(0, "review", "--out", "r.html")
	assert.Contains(t, string(p.read("r.html")), sides)
	assert.Contains(t, p.must(0, "review", "--decision", "open").out, "item/B")
	assert.Contains(t, p.must(3, "import").out, "Nothing is approved")
}

// What an import carried out is used up: taken back, it is not written again by the old approval.
func TestAnApprovalIsForOneImport(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "approve", "range/GLU/F", "unit/mg")
	p.must(0, "import")
	const low = "SELECT low FROM ranges WHERE assay = 8 AND sex = 'F'"
	assert.Equal(t, []string{"5"}, p.rows("target", low))
	p.must(0, "import")
	p.must(3, "restore", "1")
	p.must(0, "approve", "2", "*", "--take", "source")
	p.must(0, "import", "2")
	before := p.rows("target", low)
	assert.NotEqual(t, []string{"5"}, before)
	r := p.must(4, "import", "1")
	assert.Contains(t, words(r.out), "approval-used: range/GLU/F was written by an import of docket 1 already, and what was approved then is used up. Approve it anew with anagram approve 1 range/GLU/F --again, where it is to be written once more; or decline the record.")
	assert.Equal(t, before, p.rows("target", low), "the restore is not undone")
	p.must(0, "approve", "1", "range/GLU/F", "--again") // the remedy
	p.must(5, "import", "1")
	assert.Equal(t, []string{"5"}, p.rows("target", low))
}

// An older docket does not write what a newer one of the same pair declined, on the same values.
func TestWhatWasDeclinedLaterIsNotWritten(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "approve", "1", "range/GLU/F", "unit/mg", "--note", "yes")
	p.must(3, "match", "p", "--against", "target")
	nextSecond()
	p.as("ida", 0, "decline", "2", "range/GLU/F", "--note", "no")
	r := p.must(5, "import", "1")
	assert.Contains(t, words(r.out), "decided-later: range/GLU/F was declined by ida in docket 2, after it was approved in docket 1 and on the same values. Approve it anew with anagram approve 1 range/GLU/F --again, where that does not hold any more; or decline the record.")
	assert.Equal(t, []string{"1"}, p.rows("target", "SELECT low FROM ranges WHERE assay = 8 AND sex = 'F'"))
	nextSecond()
	p.must(0, "approve", "1", "range/GLU/F", "--again") // the remedy
	p.must(0, "import", "1")
	assert.Equal(t, []string{"5"}, p.rows("target", "SELECT low FROM ranges WHERE assay = 8 AND sex = 'F'"))
}

// A name that cannot be told from another is refused, wherever it comes from.
func TestNamesThatLookAlike(t *testing.T) {
	t.Parallel()
	p := lab(t)
	for name, why := range map[string]string{"ma\u200bra": "a sign that cannot be seen", "m\u0430ra": "mixes letters of Latin and Cyrillic", " ": "it is empty"} {
		p.user = name
		p.refused("cannot be used: ", "approve", "unit/mg")
		p.refused(why, "review")
		p.user = "mara"
		p.write("a.json", `{"anagram":"answers","version":1,"docket":1,"digest":"`+p.digestOnce()+`","person":"`+name+`","answers":[{"address":"unit/mg","decision":"approve","at":"2026-11-25T08:00:00Z"}]}`)
		p.refused(why, "decide", "1", "--from", "a.json")
	}
	p.as(" MARA ", 0, "decline", "unit/mg")
	p.as("mara", 0, "approve", "unit/mg")
	assert.Equal(t, "approved", p.review()["unit/mg"].Stands, "one person, however their name is written")
	p.write("a.json", `{"anagram":"answers","version":1,"docket":1,"digest":"`+p.digestOnce()+`","person":"ida","answers":[{"address":"unit/mg","decision":"decline","at":"2036-11-25T08:00:00Z"}]}`)
	p.refused("which is in the future", "decide", "1", "--from", "a.json")
}

// A table that comes back counts for what it showed: where it shows something else nothing of it is
// read in.
func TestATableThatShowsSomethingElse(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "review", "--out", "r.csv")
	plain := string(p.read("r.csv"))
	row := func(address, field string) string {
		for line := range strings.Lines(plain) {
			cells := strings.Split(line, ",")
			if cells[0] == address && cells[3] == field {
				return line
			}
		}
		t.Fatalf("no row of %s %s", address, field)
		return ""
	}
	answered := func(line, decision string) string { // in the column of decisions
		cells := strings.Split(strings.TrimSuffix(line, "\n"), ",")
		cells[len(cells)-7] = decision
		return strings.Join(cells, ",") + "\n"
	}
	field := row("range/GLU/F", "low")
	for what, table := range map[string]string{
		"under source":                     strings.Replace(plain, field, answered(strings.Replace(field, ",5,", ",50,", 1), "approve"), 1),
		"under status":                     strings.Replace(plain, row("unit/mg", ""), answered(strings.Replace(row("unit/mg", ""), ",new,", ",changed,", 1), "approve"), 1),
		"unit/mg: it shows":                strings.Replace(plain, row("assay/NEW", ""), answered(strings.Replace(row("assay/NEW", ""), "assay/NEW", "unit/mg", 1), "approve"), 1),
		`there are two columns "decision"`: strings.Replace(plain, ",note,", ",decision,", 1),
		"is in the future":                 strings.ReplaceAll(strings.Replace(plain, field, answered(field, "approve"), 1), ",2026-", ",2126-"),
		"cannot be used":                   strings.Replace(plain, field, strings.Replace(answered(field, "approve"), ",,2026-", ",m\u0430ra,2026-", 1), 1),
	} {
		require.NotEqual(t, plain, table, what)
		p.write("back.csv", table)
		p.refused(what, "decide", "1", "--from", "back.csv")
		assert.Empty(t, p.review()["range/GLU/F"].Decisions, what)
	}
	// Whose answers they are stands in the table, and one that is older than a word does not count.
	p.write("back.csv", strings.Replace(plain, field, strings.Replace(answered(field, "approve"), ",,2026-", ",ida,2026-", 1), 1))
	assert.Contains(t, p.must(0, "decide", "1", "--from", "back.csv").out, "1 decision by ida read into docket 1 from back.csv.")
	assert.Equal(t, "ida", p.review()["range/GLU/F"].Decisions[0].By)
	nextSecond()
	p.as("ida", 0, "hold", "unit/mg")
	p.write("back.csv", strings.Replace(plain, row("unit/mg", ""), strings.Replace(answered(row("unit/mg", ""), "approve"), ",,2026-", ",ida,2026-", 1), 1))
	assert.Contains(t, words(p.must(0, "decide", "1", "--from", "back.csv").out), "1 decision does not count, as who made it decided otherwise later.")
	assert.Equal(t, "held", p.review()["unit/mg"].Stands)
}

// nextSecond waits until what is said is said later than what was said before: times are kept to
// the second.
func nextSecond() {
	time.Sleep(time.Until(time.Now().Truncate(time.Second).Add(time.Second + 20*time.Millisecond)))
}

// The same words come to the same, whichever way they come in: by command, in answers, in a table,
// in a workbook and in copies of the docket.
func TestEveryChannelComesToTheSame(t *testing.T) {
	t.Parallel()
	records := []string{"unit/mg", "assay/NEW", "range/NEW/F", "range/GLU/F", "range/GLU/M", "rule/R1"}
	people := []string{"ida", "jonas", "mara"}
	rounds := 2
	if thorough {
		rounds = 12
	}
	random := rand.New(rand.NewPCG(3, uint64(rounds)))
	for range rounds {
		words := map[string]map[string]string{} // person, record: what they say
		for _, who := range people {
			words[who] = map[string]string{}
			for _, record := range records {
				if verb := []string{"", "approve", "decline", "hold", "target"}[random.IntN(5)]; verb != "" {
					words[who][record] = verb
				}
			}
		}
		verbOf := func(word string) (verb, take string) {
			if word == "target" {
				return "approve", "target"
			}
			return word, ""
		}
		stands := map[string]map[string]string{}
		each := func(p *place, who string, say func(record, verb, take string)) {
			for _, record := range records {
				if word := words[who][record]; word != "" {
					verb, take := verbOf(word)
					say(record, verb, take)
				}
			}
		}
		command := func(p *place, who string, docket string) {
			each(p, who, func(record, verb, take string) {
				args := []string{verb, docket, record}
				if take != "" {
					args = append(args, "--take", take)
				}
				p.as(who, 0, args...)
			})
		}
		for channel, bring := range map[string]func(p *place, who string){
			"command": func(p *place, who string) { command(p, who, "1") },
			"copy": func(p *place, who string) {
				p.write(who+".docket", string(p.read("fresh.docket")))
				command(p, who, who+".docket")
				p.must(0, "decide", "1", "--from", who+".docket")
			},
			"answers": func(p *place, who string) {
				var list []string
				each(p, who, func(record, verb, take string) {
					list = append(list, fmt.Sprintf(`{"address":%q,"decision":%q,"take":%q,"at":"2026-11-25T08:00:00Z"}`, record, verb, take))
				})
				p.write("a.json", `{"anagram":"answers","version":1,"docket":1,"digest":"`+p.digestOnce()+`","person":"`+who+`","answers":[`+strings.Join(list, ",")+`]}`)
				p.must(0, "decide", "1", "--from", "a.json")
			},
			"workbook": func(p *place, who string) {
				fill := map[[2]string][3]string{}
				each(p, who, func(record, verb, take string) { fill[[2]string{record, ""}] = [3]string{verb, take, ""} })
				p.write(who+".xlsx", string(p.read("fresh.xlsx")))
				p.answered(who+".xlsx", who, fill)
				p.must(0, "decide", "1", "--from", who+".xlsx")
			},
			"table": func(p *place, who string) {
				rows, err := csv.NewReader(strings.NewReader(string(p.read("fresh.csv")))).ReadAll()
				require.NoError(t, err)
				for _, row := range rows[1:] {
					if word := words[who][row[0]]; word != "" && row[3] == "" {
						row[10], row[11] = verbOf(word)
						row[14] = who
					}
				}
				var out strings.Builder
				require.NoError(t, csv.NewWriter(&out).WriteAll(rows))
				p.write("back.csv", out.String())
				p.must(0, "decide", "1", "--from", "back.csv")
			},
		} {
			p := lab(t)
			p.must(0, "review", "--out", "fresh.csv")
			p.must(0, "review", "--out", "fresh.xlsx")
			p.write("fresh.docket", string(p.read("dockets/0001.docket")))
			for _, who := range people {
				bring(p, who)
			}
			stands[channel] = map[string]string{}
			for address, f := range p.review() {
				stands[channel][address] = f.Stands
				for _, d := range f.Decisions {
					if d.Field == "" {
						stands[channel][address] += " " + d.By + " " + d.Decision
					}
				}
			}
		}
		for channel, have := range stands {
			assert.Equal(t, stands["command"], have, "%s, of %v", channel, words)
		}
	}
}

// Several people decide on one docket at the same time: no word is lost, and none is in another's
// name.
func TestPeopleDecideAtOnce(t *testing.T) {
	t.Parallel()
	p := lab(t)
	records := []string{"unit/mg", "assay/NEW", "range/NEW/F", "range/GLU/F", "rule/R1"}
	each := 20
	if thorough {
		each = 170
	}
	var all sync.WaitGroup
	last := map[string]map[string]string{}
	for i, who := range []string{"ida", "jonas", "otto"} {
		mine := map[string]string{}
		last[who] = mine
		random := rand.New(rand.NewPCG(7, uint64(i)))
		other := *p
		other.user = who
		all.Go(func() {
			for range each {
				record, verb := records[random.IntN(len(records))], []string{"approve", "decline", "hold"}[random.IntN(3)]
				other.must(0, verb, "1", record)
				mine[record] = map[string]string{"approve": "approved", "decline": "declined", "hold": "held"}[verb]
			}
		})
	}
	all.Wait()
	assert.Equal(t, []string{strconv.Itoa(3 * each)}, p.rowsOf("file:"+p.path("dockets/0001.docket"), "SELECT count(*) FROM decisions"))
	for address, f := range p.review() {
		said := map[string]string{}
		for _, d := range f.Decisions {
			said[d.By] = d.Decision
		}
		for who, words := range last {
			assert.Equal(t, words[address], said[who], "%s of %s", address, who)
		}
	}
	p.must(0, "review") // its chain holds
}

// A question waits for who is asked until they answer, decide, or it is withdrawn; it travels with
// copies.
func TestAskingSomebody(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.as("mara", 0, "comment", "unit/mg", "Is this the new one?", "--to", "ida")
	p.as("mara", 0, "comment", "assay/OLD2", "Still in use?", "--to", " IDA ")
	p.user = "ida"
	r := p.must(0, "status")
	assert.Contains(t, words(r.out), "asked mara asks about unit/mg: Is this the new one?")
	assert.Contains(t, words(r.out), "asked mara asks about assay/OLD2: Still in use?")
	assert.Contains(t, p.review("--waits-for", "me"), "assay/OLD2", "though it asks for no decision")
	p.user = "mara"
	assert.NotContains(t, p.must(0, "status").out, "asks about")
	assert.Contains(t, words(p.must(0, "review", "--only", "unit/mg").out), "mara to ida, ")
	assert.Equal(t, "ida", p.review()["unit/mg"].Comments[0].To)

	p.as("ida", 0, "approve", "unit/mg")
	assert.NotContains(t, p.as("ida", 0, "status").out, "unit/mg", "a decision is an answer")
	p.refused("Nothing that mara asked about unit/mg waits", "comment", "unit/mg", "--withdraw")
	assert.Contains(t, p.must(0, "comment", "assay/OLD2", "--withdraw").out, "What mara asked about assay/OLD2 in docket 1 waits for nobody any more.")
	assert.NotContains(t, p.as("ida", 0, "status").out, "asks about")
	p.refused("--withdraw goes with one record", "comment", "--withdraw")
	p.refused("cannot be used", "comment", "unit/mg", "x", "--to", "i\u200bda")

	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.as("ida", 0, "comment", "copy.docket", "range/GLU/F", "Sure?", "--to", "jonas")
	p.must(0, "decide", "1", "--from", "copy.docket")
	assert.Contains(t, words(p.as("jonas", 0, "status").out), "ida asks about range/GLU/F: Sure?")
	p.as("jonas", 0, "comment", "range/GLU/F", "Yes.")
	assert.NotContains(t, p.as("jonas", 0, "status").out, "asks about")
	p.docket(1, `UPDATE comments SET more = '{"to":"otto"}' WHERE seq = 1`)
	p.refused("its comments are not as its log says", "review")
	p.docket(1, `UPDATE comments SET more = '{"to":"ida","x":1}' WHERE seq = 1`)
	p.refused("a comment holds more than was written", "review")
}

// Where the people are listed, nobody else's approval counts; a decline counts from anybody.
func TestWhoCountsIsListed(t *testing.T) {
	t.Parallel()
	p := lab(t)
	config := string(p.read("anagram.yaml"))
	p.write("anagram.yaml", config+"people: [Ida, jonas]\n")
	p.as("mallory", 0, "approve", "unit/mg", "range/GLU/F")
	assert.Contains(t, words(p.must(4, "import").out), "unit/mg is approved by nobody who counts; target demands the approval of one person. mallory is none of people: in anagram.yaml and does not count.")
	p.as("ida", 0, "approve", "unit/mg", "range/GLU/F")
	p.as("mallory", 0, "decline", "range/GLU/F")
	assert.Equal(t, "declined", p.review()["range/GLU/F"].Stands)
	p.must(0, "import", "--rehearse")
	for list, why := range map[string]string{"[ida, IDA]": "IDA stands there twice", "['i\u200bda']": "name 1 cannot be used: it has a sign that cannot be seen", "[ida, '']": "name 2 cannot be used: it is empty"} {
		p.write("anagram.yaml", config+"people: "+list+"\n")
		p.refused(why, "status")
	}

	guarded := guardedBy("guard: {approvals: 2}")
	p.write("anagram.yaml", guarded)
	const caution = "target counts people by name, and any name counts: list whose approvals do under people: in anagram.yaml"
	assert.Contains(t, words(p.must(0, "status").out), "caution "+caution)
	assert.Equal(t, []any{caution}, p.json(0, "status")["cautions"])
	p.write("anagram.yaml", guarded+"\npeople: [ida, jonas]\n")
	assert.NotContains(t, p.must(0, "status").out, "caution")
}

// What a file can say is what somebody says in it: it overrules nobody, and its times are times that
// have been, compared as times however they are written.
func TestWhatAFileCannotSay(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.write("early.docket", string(p.read("dockets/0001.docket")))
	p.as("ida", 0, "decline", "copy.docket", "unit/mg", "--note", "no")
	p.as("jonas", 0, "approve", "copy.docket", "unit/mg", "--overrule", "--note", "yes")
	assert.Contains(t, words(p.must(0, "decide", "1", "--from", "copy.docket").out), "declined or held by others, which counts: unit/mg (ida)")
	assert.Equal(t, "declined", p.review()["unit/mg"].Stands)
	assert.Contains(t, p.must(0, "decide", "1", "--from", "copy.docket").out, "has no decision that docket 1 does not have")

	answer := func(decision, at string) {
		p.write("a.json", `{"anagram":"answers","version":1,"docket":1,"digest":"`+p.digestOnce()+`","person":"otto","answers":[{"address":"range/GLU/F","decision":"`+decision+`","at":"`+at+`"}]}`)
	}
	answer("hold", "2026-11-25T09:00:00Z")
	p.must(0, "decide", "1", "--from", "a.json")
	answer("approve", "2026-11-25T20:30:00+14:00") // 06:30 UTC, though its text sorts after
	assert.Contains(t, p.must(0, "decide", "1", "--from", "a.json").out, "1 decision does not count")
	assert.Equal(t, "held", p.review()["range/GLU/F"].Stands)
	p.as("otto", 0, "approve", "early.docket", "range/GLU/F")
	for at, why := range map[string]string{"2126-11-25T09:00:00Z": "no time that has been", "2026-11-25T09:00:00+14:00": "no time as dockets keep it", "soon": "no time that has been"} {
		p.forge("early.docket", at)
		p.refused(why, "decide", "1", "--from", "early.docket")
	}
	p.user = "me"
	p.refused("stands for people in filters", "review")
}

// forge makes a copy say that its last decision was made at another time, with a chain that holds.
func (p *place) forge(name, at string) {
	p.t.Helper()
	d, err := docket.Open(p.t.Context(), p.path(name))
	require.NoError(p.t, err)
	defer d.Close()
	log, err := d.Log(p.t.Context())
	require.NoError(p.t, err)
	last := log[len(log)-1]
	last.At = at
	require.NoError(p.t, d.CutBack(p.t.Context(), 0))
	require.NoError(p.t, d.Join(p.t.Context(), "", "", []docket.LogEntry{last}))
}
