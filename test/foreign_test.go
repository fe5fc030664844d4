package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// foreign are OData v4 servers that nobody here wrote, from packages that only this test uses,
// and what each of them cannot do.
var foreign = map[string]struct {
	id     string
	cannot string
}{
	"plain": {"_id", "has no versions, no batches, no navigation and no pages of its own"},
	"typed": {"id", "has no versions and no pages of its own; $top and $skip are left to its application, which takes no notice of them"},
}

// started starts such a server, and gives its address.
func started(t *testing.T, name string) string {
	t.Helper()
	skip := func(why string) {
		if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
			t.Fatal(why)
		}
		t.Skip(why)
	}
	node, err := exec.LookPath("node")
	if err != nil {
		skip("node is not on this machine, so servers written for it cannot be started")
	}
	if _, err := os.Stat("foreign/node_modules"); err != nil {
		skip("the servers of test/foreign are not installed: npm ci --prefix test/foreign --ignore-scripts")
	}
	cmd := exec.Command(node, name+".js")
	cmd.Dir = "foreign"
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return "http://127.0.0.1:" + strings.TrimSpace(port)
}

// rowsAt gives what a server holds, without its ids.
func rowsAt(t *testing.T, address, id string) []string {
	t.Helper()
	answer, err := http.Get(address + "/all")
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	var rows []map[string]any
	require.NoError(t, json.Unmarshal(text, &rows))
	codes := map[string]any{"<nil>": nil}
	for _, row := range rows {
		codes[fmt.Sprint(row[id])] = row["code"]
	}
	var out []string
	for _, row := range rows {
		out = append(out, fmt.Sprint(row["code"], row["name"], row["amount"], row["active"], row["level"], codes[fmt.Sprint(row["next"])]))
	}
	slices.Sort(out)
	return out
}

// The whole job into servers that others wrote, and from one to the other.
func TestServersThatOthersWrote(t *testing.T) {
	t.Parallel()
	for name, of := range foreign {
		t.Run(name+", which "+of.cannot, func(t *testing.T) {
			t.Parallel()
			address := started(t, name)
			p := newPlace(t, fmt.Sprintf("types:\n  item: {at: items, key: [code], id: {target: %s, source: id}, refers: {next: item}}\n", of.id),
				`CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE, name VARCHAR(40), amount DECIMAL(9,2), active BOOLEAN, level INTEGER, next INTEGER REFERENCES items (id));
				INSERT INTO items VALUES (1,'A','it''s & a+b? 100% #1',12.5,1,3,NULL),(2,'B','Æther ''x''',0.25,0,-1,1),(3,'C/1','',NULL,NULL,NULL,2),(4,'D','d',1,1,0,5),(5,'E','e',2,1,0,4);
				WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 80) INSERT INTO items SELECT i, 'N' || i, 'n ' || i, i / 4.0, 1, i, 1 FROM n`,
				"CREATE TABLE items (id INTEGER PRIMARY KEY)")
			p.write("catalog.yaml", fmt.Sprintf("types:\n  item: {at: items, key: [code], id: %s, refers: {next: item}}\n", of.id))
			if of.id != "id" {
				p.sql("source", "ALTER TABLE items RENAME COLUMN id TO "+of.id)
			}
			p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"odata+%s\", web: {requests_a_second: 10000}}\n", address))
			assert.Contains(t, p.must(0, "env", "test").out, "OData service")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			done := p.json(0, "import")
			assert.EqualValues(t, 76, done["written"].(map[string]any)["new"])
			p.must(0, "match", "source", "--against", "target")
			first := rowsAt(t, address, of.id)
			assert.Len(t, first, 76)

			p.sql("source", "UPDATE items SET name = 'other', level = NULL, next = 3 WHERE code IN ('A', 'N20'); UPDATE items SET amount = 99.75, active = 0 WHERE code = 'B'; INSERT INTO items VALUES (99,'Z','z',1,1,1,99)")
			p.must(3, "match", "source", "--against", "target")
			number := fmt.Sprint(docketsIn(p))
			p.must(0, "approve", number, "*")
			p.must(0, "import", number)
			p.must(0, "match", "source", "--against", "target")
			assert.Len(t, rowsAt(t, address, of.id), 77)

			p.must(3, "restore", number)
			number = fmt.Sprint(docketsIn(p))
			p.must(0, "approve", number, "*", "--take", "source")
			r := p.run("import", number)
			assert.Contains(t, []int{0, 5}, r.code, r.out+r.err)
			left := rowsAt(t, address, of.id)
			if r.code == 0 {
				assert.Equal(t, first, left)
			}
			p.must(0, "export", "target", "--name", "back")
		})
	}
}
