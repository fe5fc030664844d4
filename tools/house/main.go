// House draws the packages of the program and who imports whom, from the imports as they
// are, as an SVG picture on standard output:
//
//	go run ./tools/house > docs/house.svg
//
// Floors lie above those that they may import. Within a floor a package stands to the right
// of those that it imports, and thin lines say which.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// floors are the rooms of the house, from the roof down, with what each is for.
var floors = []struct{ name, does string }{
	{"cmd", "starts the program"},
	{"ui", "what people see and type"},
	{"demo", "the made-up laboratory"},
	{"flow", "the steps of the job, one room each"},
	{"environment", "what is connected to: databases, folders, services"},
	{"store", "what is kept: workspace, parcels, dockets, register"},
	{"files", "careful work with files"},
	{"core", "the computation; knows nobody"},
}

// pkg is a package of the program.
type pkg struct {
	name    string // within its floor
	lines   int    // Go lines without tests
	imports []string
	column  int
	x, y    int
}

const (
	boxWidth, boxHeight, columnGap, rowGap = 126, 34, 26, 8
	left, width                            = 22, 1240
)

func main() {
	all, err := read()
	if err == nil {
		_, err = os.Stdout.Write(draw(all))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "house:", err)
		os.Exit(1)
	}
}

// read asks the Go tools for the packages, by import path without the module's name.
func read() (map[string]*pkg, error) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,GoFiles,Dir", "anagram/cmd/...", "anagram/internal/...").Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w", err)
	}
	all := map[string]*pkg{}
	for decoder := json.NewDecoder(bytes.NewReader(out)); decoder.More(); {
		var listed struct {
			ImportPath, Dir  string
			Imports, GoFiles []string
		}
		if err := decoder.Decode(&listed); err != nil {
			return nil, err
		}
		p := &pkg{}
		for _, name := range listed.GoFiles {
			text, err := os.ReadFile(filepath.Join(listed.Dir, name))
			if err != nil {
				return nil, err
			}
			p.lines += bytes.Count(text, []byte("\n"))
		}
		for _, path := range listed.Imports {
			if name, own := inHouse(path); own {
				p.imports = append(p.imports, name)
			}
		}
		name, _ := inHouse(listed.ImportPath)
		all[name] = p
		_, p.name, _ = strings.Cut(name, "/")
		if p.name == "" {
			p.name = name
		}
	}
	return all, nil
}

func inHouse(importPath string) (string, bool) {
	name, own := strings.CutPrefix(importPath, "anagram/")
	return strings.TrimPrefix(name, "internal/"), own
}

// floorOf gives the floor of a package: the first part of its path.
func floorOf(name string) string { first, _, _ := strings.Cut(name, "/"); return first }

// column is how many packages of its own floor a package stands on, one upon the other.
func column(all map[string]*pkg, name string) int {
	deepest := 0
	for _, other := range all[name].imports {
		if floorOf(other) == floorOf(name) {
			deepest = max(deepest, column(all, other)+1)
		}
	}
	return deepest
}

func draw(all map[string]*pkg) []byte {
	names := make([]string, 0, len(all))
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	var b bytes.Buffer
	y := 16
	for _, floor := range floors {
		var inside []string
		perColumn := map[int]int{}
		lines := 0
		for _, name := range names {
			if p := all[name]; floorOf(name) == floor.name {
				inside = append(inside, name)
				lines += p.lines
				p.column = column(all, name)
				p.x = left + 14 + p.column*(boxWidth+columnGap)
				p.y = y + 30 + perColumn[p.column]*(boxHeight+rowGap)
				perColumn[p.column]++
			}
		}
		rows := 0
		for _, n := range perColumn {
			rows = max(rows, n)
		}
		height := 34 + rows*(boxHeight+rowGap)
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="#f4f1e8" stroke="#b9b29c"/>`+"\n", left, y, width, height)
		say(&b, left+14, y+20, 14, "bold", fmt.Sprintf("%s: %s", floor.name, floor.does))
		say(&b, left+width-14, y+20, 12, "end", uses(all, inside, floor.name, lines))
		for _, name := range inside {
			for _, other := range all[name].imports {
				if o := all[other]; floorOf(other) == floor.name {
					fmt.Fprintf(&b, `<path d="M%d %d L%d %d" stroke="#8a8468" fill="none"/>`+"\n", all[name].x,
						all[name].y+boxHeight/2, o.x+boxWidth, o.y+boxHeight/2)
				}
			}
		}
		for _, name := range inside {
			p := all[name]
			fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="4" fill="#ffffff" stroke="#55604f"/>`+"\n", p.x, p.y,
				boxWidth, boxHeight)
			say(&b, p.x+8, p.y+15, 12, "", p.name)
			say(&b, p.x+8, p.y+28, 10, "", fmt.Sprintf("%d lines", p.lines))
		}
		y += height + 12
	}
	head := fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" font-family="DejaVu Sans, sans-serif" fill="#2b2b26">`+"\n"+`<rect width="100%%" height="100%%" fill="#ffffff"/>`+"\n", width+2*left, y+4)
	return append([]byte(head), append(b.Bytes(), "</svg>\n"...)...)
}

// uses says which floors a floor imports, with the number of imports.
func uses(all map[string]*pkg, inside []string, floor string, lines int) string {
	counts := map[string]int{}
	for _, name := range inside {
		for _, other := range all[name].imports {
			counts[floorOf(other)]++
		}
	}
	var list []string
	for _, f := range floors {
		if n := counts[f.name]; n > 0 && f.name != floor {
			list = append(list, fmt.Sprintf("%s (%d)", f.name, n))
		}
	}
	text := fmt.Sprintf("%d lines, imports %s", lines, strings.Join(list, ", "))
	return strings.Replace(text, "imports ", map[bool]string{true: "imports ", false: "imports no other floor"}[len(list) > 0], 1)
}

func say(b *bytes.Buffer, x, y, size int, style, text string) {
	attributes := map[string]string{"bold": ` font-weight="bold"`, "end": ` text-anchor="end"`}[style]
	fmt.Fprintf(b, `<text x="%d" y="%d" font-size="%d"%s>%s</text>`+"\n", x, y, size, attributes, html.EscapeString(text))
}
