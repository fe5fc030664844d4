package pattern_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/pattern"
)

func TestAPatternDoesWhatItsExpressionDoes(t *testing.T) {
	const text = "one 12, two 345"
	p, want := pattern.Of(`([a-z]+) (\d+)`), regexp.MustCompile(`([a-z]+) (\d+)`)
	assert.Equal(t, want.MatchString(text), p.MatchString(text))
	assert.Equal(t, want.Match([]byte(text)), p.Match([]byte(text)))
	assert.Equal(t, want.FindIndex([]byte(text)), p.FindIndex([]byte(text)))
	assert.Equal(t, want.FindString(text), p.FindString(text))
	assert.Equal(t, want.FindStringIndex(text), p.FindStringIndex(text))
	assert.Equal(t, want.FindStringSubmatch(text), p.FindStringSubmatch(text))
	assert.Equal(t, want.FindSubmatch([]byte(text)), p.FindSubmatch([]byte(text)))
	assert.Equal(t, want.FindSubmatchIndex([]byte(text)), p.FindSubmatchIndex([]byte(text)))
	assert.Equal(t, want.FindAllStringSubmatch(text, -1), p.FindAllStringSubmatch(text, -1))
	assert.Equal(t, want.FindAllStringSubmatchIndex(text, 1), p.FindAllStringSubmatchIndex(text, 1))
	assert.Equal(t, "12 one, 345 two", p.ReplaceAllString(text, "$2 $1"))
	assert.Nil(t, p.FindStringSubmatch("none"))
	assert.Panics(t, func() { pattern.Of("(").MatchString("") })
}

// What is made late would fail late: here every pattern of the program is read.
func TestEveryPatternCanBeRead(t *testing.T) {
	read := 0
	require.NoError(t, filepath.WalkDir("../../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && len(d.Name()) > 2) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if name, ok := call.Fun.(*ast.SelectorExpr); !ok || name.Sel.Name != "Of" || len(call.Args) != 1 {
				return true
			} else if room, ok := name.X.(*ast.Ident); !ok || room.Name != "pattern" {
				return true
			}
			literal, ok := call.Args[0].(*ast.BasicLit)
			if !ok { // the names of secrets, which the tests of drafting hold
				assert.Contains(t, path, "secrets.go", "a pattern is a constant of the program")
				return true
			}
			text, err := strconv.Unquote(literal.Value)
			require.NoError(t, err)
			_, err = regexp.Compile(text)
			assert.NoError(t, err, path)
			read++
			return true
		})
		return nil
	}))
	assert.Greater(t, read, 50)
}
