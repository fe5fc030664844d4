package test

import (
	"debug/elf"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/store/workspace"
)

// Every example in the documentation is run here. With UPDATE_DOCS=1 the outputs in
// the documents are written anew.

var (
	fence   = regexp.MustCompile("(?ms)^```([a-z]+)([^\n]*)\n(.*?)^```$")
	moments = regexp.MustCompile(`\d{4}-\d\d-\d\d\s+\d\d:\d\d\s+UTC`)
	sizes   = regexp.MustCompile(`\d+(\.\d)? (B|kB|MB)\b`)
	folders = regexp.MustCompile(`/[^ \n]*/fernhollow`)
	digests = regexp.MustCompile(`Digest [0-9a-f]{16}`)
	// Who is at work on the machine that runs this is nobody's business.
	atWork  = regexp.MustCompile(`(\w+)\s+was\s+at\s+work\s+as\s+account\s+\S+\s+on\s+[^\s,]+?(,\s+under\s+a\s+name\s+that\s+was\s+given)?\.\n`)
	split   = regexp.MustCompile(`\b20\d\d-(?:0[2-9]|1[0-2])-\d\d\b|\b\d\d:\d\d\s+UTC`) // a time that a narrow column breaks
	engines = regexp.MustCompile(`SQLite \d+\.\d+\.\d+`)
)

// masked takes out what differs from run to run.
func masked(text string) string {
	text = moments.ReplaceAllString(text, "(time)")
	text = split.ReplaceAllString(text, "(part of a time)")
	text = digests.ReplaceAllString(text, "Digest (sum)")
	text = sizes.ReplaceAllString(text, "(size)")
	text = engines.ReplaceAllString(text, "SQLite")
	// Paths have another length on every machine, which moves columns and line breaks.
	return strings.Join(strings.Fields(folders.ReplaceAllString(text, "/home/mara/fernhollow")), " ")
}

// forShell finds what a shell would do more with than split words and take single quotes away.
var forShell = regexp.MustCompile(`[|<>$;&"\\\\#` + "`" + `]|^(?:[^']*'[^']*')*[^']*[*?\[~]`)

func TestTheGuideCanBeFollowed(t *testing.T) {
	t.Parallel()
	inGate(t, "a long example")
	file := filepath.Join("..", "docs", "guide.md")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	dir, user := t.TempDir(), "mara"
	update := os.Getenv("UPDATE_DOCS") != ""
	commands := 0
	out := fence.ReplaceAllStringFunc(string(text), func(block string) string {
		parts := fence.FindStringSubmatch(block)
		if parts[1] != "console" {
			return block
		}
		var fresh strings.Builder
		for _, chunk := range strings.Split("\n"+parts[3], "\n$ ")[1:] {
			line, want, _ := strings.Cut(chunk, "\n")
			got := ""
			switch {
			case strings.HasPrefix(line, "cd "):
				dir = filepath.Join(dir, line[3:])
			case strings.HasPrefix(line, "export "):
				user = strings.TrimPrefix(line, "export ANAGRAM_USER=")
			default:
				commands++
				q := &place{t: t, dir: dir, user: user}
				both := ""
				if words := arguments(line); words[0] == "anagram" && !forShell.MatchString(line) {
					both, _ = q.together(words[1:]...)
				} else {
					out, _ := q.started("sh", "-c", line).CombinedOutput()
					both = string(out)
				}
				got = atWork.ReplaceAllString(both, "$1 was at work as account $1 on lab-3.\n")
				assert.NotContains(t, got, "anagram:", "%s", line)
			}
			if !update {
				assert.Equal(t, masked(want), masked(got), "docs/guide.md: %s", line)
			}
			fresh.WriteString("$ " + line + "\n" + folders.ReplaceAllString(got, "/home/mara/fernhollow"))
		}
		return "```console\n" + fresh.String() + "```"
	})
	assert.Greater(t, commands, 20)
	if update {
		require.NoError(t, os.WriteFile(file, []byte(out), 0o600))
	}
}

func schema(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	s, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", name+".schema.json"))
	require.NoError(t, err)
	return s
}

func validate(t *testing.T, name, text string) {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(t, err, text)
	assert.NoError(t, schema(t, name).Validate(doc), "%s: %s", name, text)
}

func TestTheExamplesOfFormatsHold(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "docs", "formats.md"))
	require.NoError(t, err)
	seen := map[string]int{}
	for _, parts := range fence.FindAllStringSubmatch(string(text), -1) {
		name := strings.TrimSpace(parts[2])
		switch {
		case strings.HasPrefix(name, "schema="):
			validate(t, strings.TrimPrefix(name, "schema="), parts[3])
		case name == "file=catalog.yaml":
			c, err := catalog.Parse("formats.md", []byte(parts[3]))
			require.NoError(t, err)
			assert.Equal(t, []string{"unit", "assay", "assay_range"}, c.Names())
		case name == "file=references.yaml":
			c, err := catalog.Parse("formats.md", []byte(parts[3]))
			require.NoError(t, err)
			assert.Len(t, c.Types, 8)
		case name == "file=selections.yaml":
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "anagram.yaml"), []byte(parts[3]), 0o600))
			w, err := workspace.Open(dir)
			require.NoError(t, err)
			assert.Equal(t, "last-import:production", w.Selections["month-end"].ChangedSince)
		case name == "file=standing.yaml":
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "anagram.yaml"), []byte(parts[3]), 0o600))
			w, err := workspace.Open(dir)
			require.NoError(t, err)
			assert.Len(t, w.Standing, 2)
		case name == "file=web.yaml":
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "anagram.yaml"), []byte(parts[3]), 0o600))
			w, err := workspace.Open(dir)
			require.NoError(t, err)
			assert.Equal(t, "json", w.Environments[0].Web.Batch)
		case name == "file=anagram.yaml":
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "anagram.yaml"), []byte(parts[3]), 0o600))
			w, err := workspace.Open(dir)
			require.NoError(t, err)
			assert.Len(t, w.Environments, 3)
		}
		seen[name]++
	}
	assert.Equal(t, map[string]int{"schema=record": 1, "schema=export": 1, "schema=match": 1, "schema=review": 1, "schema=import": 1, "schema=answers": 1, "schema=pair": 1, "schema=mention": 1, "file=catalog.yaml": 1, "file=references.yaml": 1, "file=selections.yaml": 1, "file=standing.yaml": 1, "file=web.yaml": 1, "file=anagram.yaml": 1}, seen)
}

func TestWhatTheProgramWritesFitsTheSchemas(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	validate(t, "export", p.must(0, "export", "source", "--name", "p", "--as-folder", "--json").out)
	validate(t, "manifest", string(p.read("parcels/p/parcel.json")))
	lines := 0
	files, err := filepath.Glob(p.path("parcels/p/records/*.jsonl"))
	require.NoError(t, err)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for line := range strings.Lines(string(text)) {
			validate(t, "record", line)
			lines++
		}
	}
	assert.Equal(t, 20, lines)
	validate(t, "match", p.must(3, "match", "p", "--against", "target", "--json").out)
	p.must(0, "approve", "firm/*")
	for line := range strings.Lines(p.must(0, "review", "--json").out) {
		validate(t, "review", line)
	}
	validate(t, "import", p.must(5, "import", "--json").out)

	q := pairedPlace(t)
	q.must(0, "pair", "item/OLD", "item/NEW")
	validate(t, "pair", string(q.read("pairs.jsonl")))
	q.must(0, "export", "source", "--type", "mark", "--related", "none", "--name", "p", "--as-folder")
	validate(t, "mention", string(q.read("parcels/p/referred.jsonl")))
	validate(t, "match", q.must(3, "match", "p", "--against", "target", "--json").out)
	validate(t, "review", q.must(0, "review", "--json").out)
}

func TestTheReadmeShowsWhatIsThere(t *testing.T) {
	t.Parallel()
	readme, err := os.ReadFile(filepath.Join("..", "README.md"))
	require.NoError(t, err)
	assert.Contains(t, string(readme), "go run ./cmd/anagram demo\ngo test ./...\n")
	shots, err := filepath.Glob(filepath.Join("..", "docs", "screenshots", "*.png"))
	require.NoError(t, err)
	assert.NotEmpty(t, shots)
	assert.Less(t, len(shots), 20)
	for _, shot := range shots {
		assert.Contains(t, string(readme), "docs/screenshots/"+filepath.Base(shot))
	}
	for _, link := range regexp.MustCompile(`\]\(([^)#]+)\)`).FindAllStringSubmatch(string(readme), -1) {
		_, err := os.Stat(filepath.Join("..", link[1]))
		assert.NoError(t, err, "the README links to %s", link[1])
	}
}

func TestTheDemoDoesTheWholeJob(t *testing.T) {
	t.Parallel()
	told := toldDemo(t)
	p := &place{t: t, dir: demoOnce.dir, user: "somebody"}
	for _, want := range []string{"Exported 1510 records", "conflict (ambiguous)", "conflict (both-moved)", "conflict (taken)", "conflict (created-on-both)", "conflict (retired-in-target)", "conflict (removed-in-target)", "target-edit",
		"looks-renamed", "value-does-not-fit: panel/CARDED", "reference-not-approved: reflex_rule/CRP-FCAL", "Rehearsed docket 3", "Imported docket 3", "34 new and 17 changed", "31 findings declined or held as before", "caution release", "caution source-moved", "caution referred-differs", "caution old-parcel", "caution open-docket"} {
		assert.Contains(t, words(told), want)
	}
	for line := range strings.Lines(told) {
		if strings.Contains(line, p.dir) || strings.Contains(line, "> anagram ") {
			continue // paths and commands are as long as they are
		}
		assert.LessOrEqual(t, ansi.StringWidth(line), 80, "80 columns: %s", line)
	}
	assert.Contains(t, words(told), "Everything is kept in")
	p.must(2, "demo", "--keep", "kept")
	assert.Contains(t, words(p.must(0, "demo", "--unequal").out), `must-agree: setting/base_currency has to be equal on both sides, but is "EUR" in sandbox and is "CHF" in production.`)
	p.dir = p.path("kept")
	doc := p.json(3, "match", "sandbox", "--against", "production", "--name", "third")
	assert.Equal(t, map[string]int{"changed": 2, "new": 16, "conflict": 15, "target_edit": 1, "target_only": 10}, totals(doc), "what was declined or held, and nothing else")
	assert.Equal(t, []string{"TGAB TPOAB", "TPOAB TGAB"}, p.rows("data/production", "SELECT a.code, b.code FROM assays a JOIN assays b ON b.assay_id = a.fallback_assay_id WHERE a.code LIKE 'T%AB' ORDER BY 1"), "the circle is closed")
	same := p.rows("data/production", "SELECT count(*) FROM instruments WHERE endpoint_url LIKE 'https://gateway.fernhollow.example/line/%' AND endpoint_token LIKE 'production-token-%'")
	assert.Equal(t, []string{"11"}, same, "addresses and tokens are as they were")
	assert.Equal(t, p.rows("data/sandbox", "SELECT quote(method_sheet) FROM assays WHERE code = 'TPOAB'"), p.rows("data/production", "SELECT quote(method_sheet) FROM assays WHERE code = 'TPOAB'"))
}

func TestHelpStartsAtOnce(t *testing.T) {
	inLongRun(t, "it measures")
	p := &place{t: t, dir: t.TempDir()}
	best := 1.0
	for range 5 { // other work on the machine may slow one of them
		best = min(best, p.must(0, "--help").seconds)
	}
	assert.Less(t, best, 0.025, "seconds of processor time")
	var version map[string]string
	require.NoError(t, json.Unmarshal([]byte(p.must(0, "version", "--json").out), &version))
	assert.NotEmpty(t, version["version"])
	assert.NotEmpty(t, p.must(0, "completion", "bash").out)
}

func TestInitMakesAWorkspaceThatHolds(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.must(0, "init", "new")
	p.dir = p.path("new")
	assert.Contains(t, p.must(0, "env", "list").out, "sqlite:data/sandbox.db")
	assert.Contains(t, p.must(0, "catalog", "show").out, "price_line")
	p.must(1, "env", "test")
	p.must(2, "init")
	p.must(0, "status")
}

func TestTheProgramIsStatic(t *testing.T) {
	t.Parallel()
	// Whatever a build is told about C, nothing beside the standard library has any: so the
	// build of the README is static everywhere.
	if !built {
		t.Skip("the program is this test; where ANAGRAM_TEST_BUILT is set it is the built one")
	}
	list := exec.Command("go", "list", "-deps", "-f", "{{if and (not .Standard) (or .CgoFiles .SysoFiles .SwigFiles)}}{{.ImportPath}}{{end}}", "../cmd/anagram")
	list.Env = append(os.Environ(), "CGO_ENABLED=1")
	out, err := list.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Empty(t, strings.TrimSpace(string(out)), "these need a C compiler")
	file, err := elf.Open(program)
	require.NoError(t, err)
	defer file.Close()
	for _, part := range file.Progs {
		assert.NotEqual(t, elf.PT_INTERP, part.Type, "no dynamic loader is asked for")
	}
}
