package test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// tool finds a program of somebody else's that a test needs; without it the test is skipped,
// but not where that is forbidden.
func tool(t *testing.T, names ...string) string {
	t.Helper()
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
		t.Fatalf("%s is not there", names[0])
	}
	t.Skipf("%s is not there", names[0])
	return ""
}

// testNames gives the names of the tests of this package and of those in a browser.
func testNames(t *testing.T) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for _, name := range append(globbed("*_test.go"), globbed("browser/*_test.go")...) {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		for _, declared := range file.Decls {
			if f, ok := declared.(*ast.FuncDecl); ok && f.Recv == nil {
				out[f.Name.Name] = true
			}
		}
	}
	return out
}

func globbed(pattern string) []string {
	found, _ := filepath.Glob(pattern)
	return found
}
