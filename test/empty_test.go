package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A variable that is not set is never taken for all, for the newest, or for nothing said.
func TestAVariableThatIsNotSet(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('A','a'),('B','b');", table+"INSERT INTO items VALUES ('B','own');")
	p.must(3, "match", "source", "--against", "target")
	for _, args := range [][]string{{"approve", "*", "--type", ""}, {"approve", "*", "--field="}, {"approve", "item/B", "--beside", ""}, {"approve", "*", "--status", "new,"},
		{"export", "source", "--type", ""}, {"import", "", "--rehearse"}, {"import", "--into-files", ""}, {"import", "--to", ""}, {"--workspace=", "status"}, {"approve", ""}} {
		p.refused("empty text, which is never taken for all or for none", args...)
	}
	p.refused("--into-files is given as an empty text", "import", "--into-files", "")
	p.must(0, "approve", "*", "--note", "")
	p.must(0, "import")
	assert.Equal(t, []string{"A a", "B b"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"))
}
