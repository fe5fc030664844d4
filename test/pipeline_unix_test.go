//go:build unix

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The examples of the docs are run as they stand.

// pipelinePlace has rules that let some types through unattended.
func pipelinePlace(t *testing.T) *place {
	t.Helper()
	const tables = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT); CREATE TABLE prices (code TEXT PRIMARY KEY, price TEXT);"
	p := &place{t: t, dir: t.TempDir(), user: "robot"}
	p.sql("sandbox", tables+"INSERT INTO items VALUES ('A','a2'),('B','b'); INSERT INTO prices VALUES ('A','1');")
	for _, name := range []string{"acceptance", "production"} {
		p.sql(name, tables+"INSERT INTO items VALUES ('A','a1'); INSERT INTO prices VALUES ('A','1');")
	}
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code]}\n  price: {at: prices, key: [code]}\n")
	p.write("anagram.yaml", `environments:
  sandbox: {connect: "sqlite:sandbox.db"}
  acceptance: {connect: "sqlite:acceptance.db"}
  production: {connect: "sqlite:production.db", around_import: {remind: {before: ["Tell the night shift."]}}}
selections:
  nightly: {types: [item, price]}
standing:
  - {decide: approve, type: item, status: [new, changed], note: "names go through unattended"}
`)
	return p
}

func (p *place) shell(args ...string) (int, string) {
	p.t.Helper()
	cmd := exec.Command("sh", args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "ANAGRAM_USER=robot", "XDG_CONFIG_HOME="+p.config(), "BUILD=7")
	out, _ := cmd.CombinedOutput()
	return cmd.ProcessState.ExitCode(), string(out)
}

func TestTheShellExampleRunsUnattended(t *testing.T) {
	t.Parallel()
	script, err := filepath.Abs(filepath.Join("..", "docs", "examples", "nightly.sh"))
	require.NoError(t, err)
	p := pipelinePlace(t)
	code, said := p.shell(script, "first")
	require.Equal(t, 0, code, said)
	assert.Equal(t, []string{"A a2", "B b"}, p.rows("production", "SELECT code, name FROM items ORDER BY 1"))
	assert.Contains(t, string(p.read("first-import.json")), `"outcome":"imported"`)
	assert.Contains(t, string(p.read("first-proof.json")), `"sound":true`)

	// What no rule decides stops it before anything is written.
	p.sql("sandbox", "UPDATE prices SET price = '2'; UPDATE items SET name = 'a3' WHERE code = 'A'")
	code, said = p.shell(script, "second")
	assert.Equal(t, 3, code, said)
	assert.Contains(t, said, "Findings are open; somebody has to decide: anagram review")
	assert.Equal(t, []string{"A a2", "B b"}, p.rows("production", "SELECT code, name FROM items ORDER BY 1"))
	assert.Contains(t, words(p.must(3, "import", "--complete", "--reminded").err), "1 finding of docket 2 is open, so nothing was written. Decide on what is listed by anagram review 2 --decision open, then import again.")
	p.must(0, "approve", "price/A")
	p.must(0, "import", "--complete", "--reminded")

	// A guard that asks for people stops what rules approved.
	p.write("anagram.yaml", string(p.read("anagram.yaml"))+"\n")
	text := string(p.read("anagram.yaml"))
	at := len(`environments:
  sandbox: {connect: "sqlite:sandbox.db"}
  acceptance: {connect: "sqlite:acceptance.db"}
  production: {`)
	p.write("anagram.yaml", text[:at]+"guard: {approvals: 1}, "+text[at:])
	p.sql("sandbox", "UPDATE items SET name = 'a4' WHERE code = 'A'")
	code, said = p.shell(script, "third")
	assert.Equal(t, 4, code, said)
	assert.Equal(t, []string{"A a3", "B b"}, p.rows("production", "SELECT code, name FROM items ORDER BY 1"))
}

func TestTheStepsOfTheExampleGoThroughTwoEnvironments(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "docs", "examples", "pipeline.yaml"))
	require.NoError(t, err)
	var pipeline struct {
		Steps []struct{ Name, Run string } `yaml:"steps"`
	}
	require.NoError(t, yaml.Unmarshal(text, &pipeline))
	require.Len(t, pipeline.Steps, 7)
	p := pipelinePlace(t)
	for _, step := range pipeline.Steps {
		code, said := p.shell("-c", step.Run)
		require.Equal(t, 0, code, step.Name+": "+said)
		if step.Name == "where it is" {
			assert.Contains(t, words(said), "acceptance 1 imported")
			assert.Contains(t, words(said), "2 of 2")
		}
	}
	for _, name := range []string{"acceptance", "production"} {
		assert.Equal(t, []string{"A a2", "B b"}, p.rows(name, "SELECT code, name FROM items ORDER BY 1"))
	}
}
