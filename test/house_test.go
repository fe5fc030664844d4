package test

import (
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// arrows say for each room, or floor of rooms, what it may know of the others. A name that
// ends in /... stands for all rooms below. What is longest counts.
var arrows = map[string][]string{
	"cmd/anagram":        {"cmd/anagram/memory", "internal/ui/cli"},
	"cmd/anagram/memory": {},

	"internal/core/...": {"internal/core/..."},

	"internal/files/sqlitefile": {},
	"internal/files/safe":       {},
	"internal/files/sshsig":     {},
	"internal/files/spill":      {"internal/files/sqlitefile"},
	"internal/files/sheet":      {"internal/core/..."},

	"internal/store/parcel":       {"internal/core/...", "internal/files/..."},
	"internal/store/workspace":    {"internal/core/...", "internal/files/..."},
	"internal/store/docket":       {"internal/core/...", "internal/files/...", "internal/store/parcel", "internal/store/docket/form", "internal/store/docket/run"},
	"internal/store/docket/form":  {"internal/core/record", "internal/files/sqlitefile"},
	"internal/store/docket/run":   {"internal/core/record", "internal/files/sqlitefile", "internal/store/docket/form"},
	"internal/store/docket/build": {"internal/core/...", "internal/files/...", "internal/store/docket", "internal/store/docket/form"},
	"internal/store/trust":        {"internal/core/limit", "internal/files/safe"},
	"internal/store/register":     {"internal/core/decision", "internal/files/...", "internal/store/docket", "internal/store/docket/form", "internal/store/docket/run", "internal/store/workspace"},

	"internal/environment":                 {"internal/core/..."},
	"internal/tests":                       {},
	"internal/environment/conformance":     {"internal/core/...", "internal/environment", "internal/tests"},
	"internal/environment/sqldb/engine":    {"internal/core/...", "internal/environment"},
	"internal/environment/sqldb/query":     {"internal/core/...", "internal/files/...", "internal/environment", "internal/environment/sqldb/engine"},
	"internal/environment/sqldb/translate": {"internal/core/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/query"},
	"internal/environment/sqldb/read":      {"internal/core/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/query", "internal/environment/sqldb/translate"},
	"internal/environment/sqldb/write":     {"internal/core/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/query", "internal/environment/sqldb/translate", "internal/environment/sqldb/read"},
	"internal/environment/sqldb/probe":     {"internal/core/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/query", "internal/environment/sqldb/translate"},
	"internal/environment/sqldb/rows": {"internal/core/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/query", "internal/environment/sqldb/read",
		"internal/environment/sqldb/write", "internal/environment/sqldb/probe"},
	"internal/environment/sqldb/postgres": dialect,
	"internal/environment/sqldb/mysql":    dialect,
	"internal/environment/sqldb/sqlite":   dialect,
	// A folder of files is staged in an SQLite file: the one connector that uses another.
	"internal/environment/folder": {"internal/core/...", "internal/files/...", "internal/environment", "internal/environment/sqldb/sqlite"},
	// Services on the web are mirrored in an SQLite file.
	"internal/environment/web":    {"internal/core/show", "internal/files/safe", "internal/environment"},
	"internal/environment/mirror": {"internal/core/...", "internal/files/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/rows", "internal/environment/sqldb/sqlite"},
	"internal/environment/odata":  {"internal/core/...", "internal/environment", "internal/environment/web", "internal/environment/mirror"},
	"internal/environment/scim":   {"internal/core/...", "internal/environment", "internal/environment/web", "internal/environment/mirror"},
	"internal/environment/connect": {"internal/core/show", "internal/files/safe", "internal/environment", "internal/environment/folder", "internal/environment/sqldb/postgres", "internal/environment/sqldb/mysql",
		"internal/environment/sqldb/sqlite", "internal/environment/web", "internal/environment/odata", "internal/environment/scim"},

	"internal/flow/session":           below("internal/environment/connect", "internal/environment/web"),
	"internal/flow/library":           below("internal/flow/session"),
	"internal/flow/choose":            below("internal/flow/session", "internal/flow/library"),
	"internal/flow/fit":               below("internal/flow/session"),
	"internal/flow/inspect":           below("internal/flow/session"),
	"internal/flow/sides":             below("internal/flow/session"),
	"internal/flow/outside":           below(),
	"internal/flow/agreed":            below("internal/flow/session", "internal/flow/sides"),
	"internal/flow/standing":          below("internal/flow/session"),
	"internal/flow/decide":            below("internal/flow/session", "internal/flow/standing"),
	"internal/flow/extract":           below("internal/flow/session", "internal/flow/standing", "internal/flow/decide"),
	"internal/flow/shown":             below("internal/flow/session", "internal/flow/standing", "internal/flow/decide"),
	"internal/flow/joining":           below("internal/flow/session", "internal/flow/standing", "internal/flow/decide", "internal/flow/shown"),
	"internal/flow/export":            below(lower...),
	"internal/flow/matching":          below(append([]string{"internal/flow/decide"}, lower...)...),
	"internal/flow/importing":         below(append([]string{"internal/flow/importing/prepare", "internal/flow/importing/write", "internal/flow/importing/verify", "internal/flow/importing/journal"}, lower...)...),
	"internal/flow/importing/prepare": below(lower...),
	"internal/flow/importing/write":   below("internal/flow/session", "internal/flow/standing", "internal/flow/importing/prepare"),
	"internal/flow/importing/verify":  below("internal/flow/session", "internal/flow/standing", "internal/flow/sides", "internal/flow/importing/prepare"),
	"internal/flow/importing/journal": below("internal/flow/session", "internal/flow/standing", "internal/flow/importing/prepare", "internal/flow/importing/write", "internal/flow/importing/verify"),
	"internal/flow/byhand":            below(append([]string{"internal/flow/export"}, lower...)...),
	"internal/flow/loadfiles":         below(append([]string{"internal/flow/importing", "internal/flow/importing/prepare", "internal/flow/importing/write", "internal/flow/importing/verify"}, lower...)...),
	"internal/flow/renew":             below(append([]string{"internal/flow/matching", "internal/flow/decide"}, lower...)...),
	"internal/flow/audit":             below(append([]string{"internal/flow/export", "internal/flow/importing", "internal/flow/importing/prepare", "internal/flow/importing/verify", "internal/flow/matching", "internal/flow/decide"}, lower...)...),
	"internal/flow/restore":           below(append([]string{"internal/flow/importing", "internal/flow/importing/prepare", "internal/flow/matching"}, lower...)...),

	"bench":         {}, // drives the program and the databases from outside
	"tools/house":   {}, // draws the house from outside
	"tools/man":     {"internal/ui/cli"},
	"tools/schemas": {"internal/ui/wire"},

	"internal/demo":         {"internal/core/...", "internal/files/..."},
	"internal/demo/service": {"internal/core/pattern", "internal/files/sqlitefile"},
	"internal/ui/text":      {"internal/core/show"},
	"internal/ui/wire":      {"internal/core/...", "internal/store/...", "internal/flow/..."},
	"internal/ui/tui":       {"internal/core/...", "internal/store/docket", "internal/flow/session", "internal/flow/decide", "internal/flow/shown", "internal/ui/text"},
	"internal/ui/report":    {"internal/core/...", "internal/files/sheet", "internal/store/docket", "internal/store/docket/run", "internal/flow/decide", "internal/flow/shown", "internal/flow/audit", "internal/ui/text"},
	"internal/ui/present":   {"internal/core/...", "internal/store/...", "internal/flow/...", "internal/ui/text", "internal/ui/wire"},
	"internal/ui/cli":       {"internal/ui/present", "internal/core/...", "internal/files/safe", "internal/files/sshsig", "internal/store/...", "internal/flow/...", "internal/demo", "internal/demo/service", "internal/ui/text", "internal/ui/wire", "internal/ui/report", "internal/ui/tui"},
}

var (
	dialect = []string{"internal/core/...", "internal/files/...", "internal/environment", "internal/environment/sqldb/engine", "internal/environment/sqldb/rows"}
	// lower are the rooms of flow that the steps of the job stand on.
	lower = []string{"internal/flow/session", "internal/flow/library", "internal/flow/choose", "internal/flow/fit", "internal/flow/sides", "internal/flow/agreed", "internal/flow/standing", "internal/flow/outside"}
)

// below is what every room of flow may know, and these rooms.
func below(rooms ...string) []string {
	return append([]string{"internal/core/...", "internal/files/...", "internal/store/...", "internal/environment"}, rooms...)
}

// inCore are the packages that the core may use: no terminal, file system, network, process
// or SQL among them.
var inCore = []string{
	"bytes", "context", "cmp", "container/heap", "crypto/sha256", "encoding/hex", "encoding/json", "errors", "fmt", "io", "iter", "maps", "math", "math/big", "reflect", "regexp", "slices",
	"strconv", "strings", "sync", "time", "unicode", "unicode/utf16", "unicode/utf8",
	"cel.dev/cel-go/cel", "cel.dev/cel-go/common/ast", "cel.dev/cel-go/common/operators", "cel.dev/cel-go/common/types", "cel.dev/cel-go/common/types/ref", "cel.dev/cel-go/common/types/traits",
	"github.com/agnivade/levenshtein", "github.com/goccy/go-yaml", "github.com/goccy/go-yaml/ast", "github.com/goccy/go-yaml/lexer", "github.com/goccy/go-yaml/token", "github.com/goccy/go-yaml/parser",
	"golang.org/x/text/cases", "golang.org/x/text/unicode/norm",
}

type listed struct {
	ImportPath string
	Imports    []string
}

// packages lists the packages of the project, tests left out.
func packages(t *testing.T) []listed {
	t.Helper()
	list := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	list.Dir = ".."
	text, err := list.Output()
	require.NoError(t, err)
	var out []listed
	for decoder := json.NewDecoder(strings.NewReader(string(text))); ; {
		var p listed
		if err := decoder.Decode(&p); errors.Is(err, io.EOF) {
			return out
		} else {
			require.NoError(t, err)
		}
		p.ImportPath = strings.TrimPrefix(p.ImportPath, "anagram/")
		out = append(out, p)
	}
}

func covers(pattern, room string) bool {
	if prefix, ok := strings.CutSuffix(pattern, "/..."); ok {
		return room == prefix || strings.HasPrefix(room, prefix+"/")
	}
	return pattern == room
}

// ruleFor gives the longest rule that stands for a room.
func ruleFor(room string) (string, bool) {
	best := ""
	for pattern := range arrows {
		if covers(pattern, room) && len(pattern) > len(best) {
			best = pattern
		}
	}
	return best, best != ""
}

// wrong lists what a package must not know.
func wrong(p listed) []string {
	var out []string
	rule, ok := ruleFor(p.ImportPath)
	if !ok {
		return []string{p.ImportPath + " has no place in the house"}
	}
	for _, imported := range p.Imports {
		inside, own := strings.CutPrefix(imported, "anagram/")
		switch {
		case own && !slices.ContainsFunc(arrows[rule], func(pattern string) bool { return covers(pattern, inside) }):
			out = append(out, p.ImportPath+" must not know "+inside)
		case !own && covers("internal/core/...", p.ImportPath) && !slices.Contains(inCore, imported):
			out = append(out, p.ImportPath+" must not know "+imported)
		}
	}
	return out
}

func TestTheArrowsOfTheHouse(t *testing.T) {
	t.Parallel()
	used := map[string]bool{}
	for _, p := range packages(t) {
		if p.ImportPath == "test" {
			continue
		}
		assert.Empty(t, wrong(p))
		rule, _ := ruleFor(p.ImportPath)
		used[rule] = true
	}
	assert.ElementsMatch(t, slices.Collect(maps.Keys(arrows)), slices.Collect(maps.Keys(used)), "every arrow belongs to a room")
}

// TestTheArrowsAreNoticed makes sure that the test of arrows sees what is wrong.
func TestTheArrowsAreNoticed(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ from, to string }{
		{"internal/core/match", "net/http"}, {"internal/core/match", "os/exec"}, {"internal/core/match", "github.com/xuri/excelize/v2"}, {"internal/core/check", "os"},
		{"internal/core/record", "anagram/internal/files/sheet"}, {"internal/store/parcel", "anagram/internal/store/docket"}, {"internal/store/docket", "anagram/internal/environment"},
		{"internal/files/safe", "anagram/internal/core/record"}, {"internal/environment/sqldb/mysql", "anagram/internal/environment/sqldb/postgres"},
		{"internal/environment/sqldb/engine", "anagram/internal/environment/sqldb/rows"}, {"internal/environment/sqldb/rows", "anagram/internal/environment/sqldb/sqlite"},
		{"internal/flow/matching", "anagram/internal/flow/importing"}, {"internal/flow/importing", "anagram/internal/flow/matching"}, {"internal/flow/session", "anagram/internal/flow/library"},
		{"internal/flow/sides", "anagram/internal/flow/agreed"}, {"internal/flow/standing", "anagram/internal/flow/sides"}, {"internal/flow/fit", "anagram/internal/flow/choose"},
		{"internal/flow/export", "anagram/internal/ui/text"}, {"internal/ui/cli", "anagram/internal/environment"}, {"internal/ui/text", "anagram/internal/core/match"}, {"internal/new/room", "fmt"},
	} {
		assert.NotEmpty(t, wrong(listed{ImportPath: c.from, Imports: []string{c.to}}), "%s knows %s", c.from, c.to)
	}
	assert.Empty(t, wrong(listed{ImportPath: "internal/flow/agreed", Imports: []string{"anagram/internal/flow/sides", "os"}}))
}

// The picture is that of the house as it stands. How long packages are may differ.
func TestThePictureOfTheHouseIsCurrent(t *testing.T) {
	t.Parallel()
	drawn, err := exec.Command("go", "run", "../tools/house").Output()
	require.NoError(t, err)
	kept, err := os.ReadFile("../docs/house.svg")
	require.NoError(t, err)
	lines := regexp.MustCompile(`\d+ lines`)
	assert.Equal(t, lines.ReplaceAllString(string(drawn), ""), lines.ReplaceAllString(string(kept), ""), "draw it anew with: make house")
}
