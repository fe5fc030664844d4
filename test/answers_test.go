package test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Answers that are about something else, or are none, are refused; a signature beside them
// has to be one of them, and counts where it is.
func TestAnswersFromAPage(t *testing.T) {
	t.Parallel()
	p := lab(t)
	digest := p.digest()
	file := func(change ...string) {
		text := `{"anagram":"answers","version":1,"docket":1,"digest":"` + digest + `","person":"jonas","answers":[{"address":"range/GLU/F","decision":"approve","at":"2026-11-25T08:00:00Z"},{"address":"range/GLU/M","field":"low","decision":"approve","take":"target","at":"2026-11-25T08:00:00Z"}]}`
		p.write("a.json", strings.NewReplacer(change...).Replace(text))
	}
	for says, change := range map[string][]string{
		"about another docket":                     {digest, strings.Repeat("0", 64)},
		`has no finding of "range/GLU/X"`:          {"range/GLU/F", "range/GLU/X"},
		`has no field "lo"`:                        {`"low"`, `"lo"`},
		"assay/GONE cannot be approved":            {"range/GLU/F", "assay/GONE"},
		"answer 1: the decision":                   {`"approve","at"`, `"agree","at"`},
		`no file of answers`:                       {"{", "["},
		"answer 2: range/GLU/M has no field \"x\"": {`"low"`, `"x"`},
	} {
		file(change...)
		p.refused(says, "decide", "1", "--from", "a.json")
	}
	assert.Equal(t, "open", p.review()["range/GLU/F"].Decision)

	key := p.keyOf("jonas")
	p.write("signers", "jonas "+key)
	p.write("anagram.yaml", guardedBy("guard: {signed: true, signers: signers}"))
	file()
	p.write("a.json.sig", "nonsense")
	p.refused("a.json.sig is no signature of a.json", "decide", "1", "--from", "a.json")
	require.NoError(t, os.Remove(p.path("a.json.sig")))
	p.sshSign("jonas", "a.json")
	file("08:00:00Z", "09:00:00Z")
	p.refused("it is not one of this text", "decide", "1", "--from", "a.json")
	file()
	out := p.must(0, "decide", "1", "--from", "a.json").out
	assert.Contains(t, out, "2 decisions by jonas read into docket 1")
	assert.Contains(t, out, "1 signature read into docket 1.")
	p.must(0, "import")
	assert.Equal(t, []string{"F 5", "M 2"}, p.rows("target", "SELECT sex, low FROM ranges WHERE assay = 8 ORDER BY 1"))
}

// Whatever comes back says which docket it is about, and is refused where that is another.
func TestAnswersAboutAnotherDocket(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "review", "--out", "round.xlsx")
	p.must(0, "review", "--out", "round.csv")
	p.write("copy.docket", string(p.read("dockets/0001.docket")))
	p.write("a.json", `{"anagram":"answers","version":1,"docket":2,"digest":"`+p.digest()+`","person":"jonas","answers":[{"address":"unit/mg","decision":"approve","at":"2026-11-25T08:00:00Z"}]}`)
	p.as("jonas", 0, "approve", "copy.docket", "*")
	p.answered("round.xlsx", "jonas", map[[2]string][3]string{{"unit/mg", ""}: {"approve", "", ""}})
	p.must(3, "match", "p", "--against", "target")
	for _, name := range []string{"round.xlsx", "round.csv", "copy.docket", "a.json"} {
		r := p.run("decide", "2", "--from", name)
		assert.Equal(t, 2, r.code, name)
	}
	for address, f := range p.review() {
		assert.Equal(t, "open", f.Decision, address)
	}
}
