package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/ui/wire"
)

// outputs are commands on one workspace, one after the other, with the schema of what they print.
var outputs = []struct {
	schema string
	code   int
	args   string
}{
	{"version", 0, "version"}, {"status", 0, "status"}, {"status-parcel", 0, "status first"}, {"status-parcel", 0, "status first --ask"},
	{"env-list", 0, "env list"}, {"env-test", 0, "env test"},
	{"history", 0, "history"}, {"history-docket", 0, "history 1"}, {"history-record", 0, "history item/A"}, {"history-out", 0, "history 1 --out h.html"},
	{"review", 0, "review 1"}, {"review-out", 0, "review 1 --out r.csv"}, {"review-files", 0, "review 1 --files looked"},
	{"catalog", 0, "catalog show"}, {"catalog-type", 0, "catalog show item"}, {"catalog-check", 0, "catalog check"},
	{"catalog-draft", 0, "catalog draft sandbox"}, {"catalog-file", 0, "catalog show --docket 1 --out c.yaml"},
	{"parcel-list", 0, "parcel list"}, {"parcel-record", 0, "parcel show first item/A"}, {"parcel-verify", 0, "parcel verify first"},
	{"manifest", 0, "parcel show first"},
	{"selection-change", 0, "selection add mine item/A item/D"}, {"selection-list", 0, "selection list"}, {"selection", 0, "selection show mine"},
	{"selection-preview", 0, "selection show mine --from sandbox"}, {"selection-change", 0, "selection remove mine item/A"},
	{"export", 0, "export sandbox --name second"}, {"match", 3, "match second --against production"},
	{"pair-new", 0, "pair item/Z item/D"}, {"pair-list", 0, "pair --list"}, {"pair-forget", 0, "pair item/Z item/D --forget"},
	{"catalog-draft-into", 0, "catalog draft sandbox --into catalog.yaml"},
	{"comment", 0, "comment 2 item/D Which?"}, {"decided", 0, "decline 2 item/D"}, {"decided", 0, "approve 2 * --again --take source"},
	{"import", 0, "import 2 --rehearse"}, {"import", 0, "import 2"}, {"prove", 0, "prove 2 --keep"}, {"match", 3, "restore 2"}, {"review", 0, "review 4"},
	{"status", 0, "status"}, {"history", 0, "history"}, {"parcel-kept", 0, "parcel rename second renamed"}, {"parcel-table", 0, "parcel table first item --out items.csv"}, {"parcel-kept", 0, "parcel remove renamed"},
	{"trust", 0, "trust"}, {"init-example", 0, "init fresh"}, {"init", 0, "init lab --source a=sqlite:sandbox.db --target b=sqlite:production.db"},
}

func TestEveryOutputIsAsItsSchemaSays(t *testing.T) {
	t.Parallel()
	p := earlier(t, "0.1")
	seen := map[string]bool{}
	for _, o := range outputs {
		args := append(strings.Fields(o.args), "--json")
		r := p.run(args...)
		if !assert.Equal(t, o.code, r.code, "anagram %s\n%s%s", o.args, r.out, r.err) {
			continue
		}
		lines := []string{r.out}
		if o.schema == "review" {
			lines = strings.Split(strings.TrimSpace(r.out), "\n")
		}
		for _, line := range lines {
			validate(t, o.schema, line)
		}
		seen[o.schema] = true
	}
	for name := range wire.Outputs() {
		if !seen[name] {
			t.Logf("not printed here: %s", name)
		}
	}
	assert.GreaterOrEqual(t, len(seen), 32)
}
