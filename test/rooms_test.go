package test

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How large a room may become. Who needs more than that has two things in one room.
const (
	mostMethods = 30
	mostNames   = 60
	mostLines   = 2500
	mostOfUI    = 3000
	mostColumns = 140
	// leastText is from how long a text may make a line wider than that.
	leastText = 60
)

// larger are the rooms, and the types, that are larger, up to how much, and why.
var larger = map[string]struct {
	most int
	why  string
}{
	"names of core/check":                  {184, "each check is a function, and a code, of its own"},
	"names of core/record":                 {67, "the kinds of values are 16 of them"},
	"lines of core/draft":                  {3584, "drafting: its rules and the making of the text are not apart yet"},
	"methods of core/draft.Type":           {40, "the same"},
	"methods of core/catalog.Type":         {32, "what is asked of a record type: each in a line or two"},
	"methods of core/draft.maker":          {65, "the same"},
	"lines of environment/odata":           {3106, "the protocol and its edits are not apart yet"},
	"methods of environment/odata.service": {66, "the same"},
	"lines of flow/matching":               {3300, "pairs and the scope of the target are not apart yet"},
	"lines of ui/cli":                      {4620, "47 commands, each with its help text, its options and its examples"},
	"names of ui/wire":                     {113, "a struct for each output, and for each thing in it"},
	"methods of ui/tui.model":              {45, "the screen keeps its whole state in one value, as its library wants it"},
}

// room is what is counted of one.
type room struct {
	lines, names int
	methods      map[string]int
	wide         []string // places of lines that are too wide
}

// rooms counts the rooms of the program below a folder, tests left out.
func rooms(t *testing.T, root string) map[string]room {
	t.Helper()
	out := map[string]room{}
	require.NoError(t, filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		name := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(path, root+string(filepath.Separator))))
		source, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		r := out[name]
		if r.methods == nil {
			r.methods = map[string]int{}
		}
		out[name] = r.count(t, path, source)
		return nil
	}))
	return out
}

func (r room) count(t *testing.T, path string, source []byte) room {
	t.Helper()
	text := texts(source)
	for n, line := range bytes.Split(source, []byte("\n")) {
		r.lines++
		// A sentence, or a statement, stands whole, so that it can be searched for.
		if wide := len([]rune(strings.ReplaceAll(string(line), "\t", "    "))); wide > mostColumns && text[n+1] < leastText {
			r.wide = append(r.wide, fmt.Sprintf("%s:%d", path, n+1))
		}
	}
	file, err := parser.ParseFile(token.NewFileSet(), path, source, 0)
	require.NoError(t, err)
	for _, d := range file.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			if d.Recv != nil {
				r.methods[receiver(d)]++
			} else if d.Name.IsExported() {
				r.names++
			}
		case *ast.GenDecl:
			for _, spec := range d.Specs {
				switch spec := spec.(type) {
				case *ast.TypeSpec:
					if spec.Name.IsExported() {
						r.names++
					}
				case *ast.ValueSpec:
					for _, name := range spec.Names {
						if name.IsExported() {
							r.names++
						}
					}
				}
			}
		}
	}
	return r
}

// texts gives of each line how much of it the longest text takes, in bytes.
func texts(source []byte) map[int]int {
	out := map[int]int{}
	set := token.NewFileSet()
	file := set.AddFile("", set.Base(), len(source))
	var s scanner.Scanner
	s.Init(file, source, nil, 0)
	for {
		at, kind, text := s.Scan()
		if kind == token.EOF {
			return out
		}
		if kind == token.STRING {
			for i, line := range strings.Split(text, "\n") {
				n := file.Line(at) + i
				out[n] = max(out[n], len(line))
			}
		}
	}
}

func receiver(d *ast.FuncDecl) string {
	of := d.Recv.List[0].Type
	for {
		switch e := of.(type) {
		case *ast.StarExpr:
			of = e.X
		case *ast.IndexExpr:
			of = e.X
		case *ast.Ident:
			return e.Name
		default:
			return fmt.Sprint(e)
		}
	}
}

func TestRoomsStaySmall(t *testing.T) {
	t.Parallel()
	used := map[string]bool{}
	within := func(what string, n, most int) {
		t.Helper()
		if allowed, ok := larger[what]; ok && n > most {
			used[what] = true
			most = allowed.most
		}
		assert.LessOrEqual(t, n, most, what)
	}
	all := rooms(t, "../internal")
	for _, name := range slices.Sorted(maps.Keys(all)) {
		r := all[name]
		most := mostLines
		if strings.HasPrefix(name, "ui/") {
			most = mostOfUI
		}
		within("lines of "+name, r.lines, most)
		within("names of "+name, r.names, mostNames)
		within("wide lines of "+name+": "+strings.Join(r.wide, " "), len(r.wide), 0)
		for _, of := range slices.Sorted(maps.Keys(r.methods)) {
			within("methods of "+name+"."+of, r.methods[of], mostMethods)
		}
	}
	for what, allowed := range larger {
		assert.True(t, used[what], "%s: no longer larger, so the exception can go", what)
		assert.NotEmpty(t, allowed.why, what)
	}
}
