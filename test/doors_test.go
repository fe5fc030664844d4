package test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// vary is what differs between two runs of the same: times, also in names that are made of them,
// seals and sums, sizes, seconds, identities and folders.
var vary = regexp.MustCompile(`\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?( UTC|Z)?|\b[0-9a-f]{16,64}\b|[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}|"(seconds|bytes|clock_ahead_seconds|size)":[-0-9.e]+|\(?[0-9.]+ k?B\)?|-\d{8}-(\d{6})?|\b\d{6}\b`)

// Every command gives the same as a process of its own as it gives within the tests: the same
// output on both streams and the same exit code.
func TestBothDoorsGiveTheSame(t *testing.T) {
	t.Parallel()
	within, alone := lab(t), lab(t)
	alone.alone = true
	seen := map[string]bool{}
	for _, line := range []string{
		"version --json", "status", "status --json", "env list", "env test", "env test --json", "catalog show", "catalog show assay --json", "catalog check", "catalog draft source", "catalog draft source target",
		"export source --name q --note two", "export source --type unit --name u --as-folder --json", "export source --type none", "parcel list", "parcel show q", "parcel show q assay/*", "parcel verify q", "parcel rename u v", "parcel again q --name r", "parcel remove v",
		"parcel table q assay --out assay.csv", "parcel reseal q --note again", "selection add mine assay/GLU", "selection list", "selection show mine", "match q --against target", "match q --against target --json", "review", "review --full", "review --json",
		"review --out r.html", "review --out r.csv", "pair assay/GONE assay/OLD2", "approve * --note fine", "hold range/GLU/F --again", "decline rule/R2", "reopen rule/R2", "comment rule/R1 why", "decide --from r.csv", "import --rehearse", "import", "import --json",
		"prove", "history", "history 3", "history assay/NEW", "restore 3", "trust", "sign", "nonsense", "review --status nonsense", "--help", "export --help", "completion bash",
	} {
		args := strings.Fields(line)
		seen[args[0]] = true
		r, other := within.run(args...), alone.run(args...)
		plain := func(p *place, text string) string {
			return strings.ReplaceAll(vary.ReplaceAllString(words(strings.ReplaceAll(text, p.dir, "DIR")), "…"), " ", "")
		}
		assert.Equal(t, other.code, r.code, line)
		assert.Equal(t, plain(alone, other.out), plain(within, r.out), "anagram %s", line)
		assert.Equal(t, plain(alone, other.err), plain(within, r.err), "anagram %s", line)
	}
	for _, path := range commands(within) {
		assert.True(t, seen[path[0]] || path[0] == "demo" || path[0] == "init", "%v is not tried by both doors", path) // others show these two as processes
	}
}
