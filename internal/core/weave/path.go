package weave

import (
	"fmt"
	"strconv"
	"strings"

	"anagram/internal/core/pattern"
)

// step is one step of a path: a member's name, a position, or all items.
type step struct {
	name     string
	position int // -1 where it is a name or all items
	all      bool
}

var stepForm = pattern.Of(`^(?:\.?([\pL_][\pL\pN_-]*)|\['([^']*)'\]|\[(\d{1,6})\]|(\[\*\]|\.\*))`)

func parsePath(path string) ([]step, error) {
	rest := strings.TrimPrefix(path, "$")
	steps := []step{}
	for rest != "" {
		m := stepForm.FindStringSubmatch(rest)
		if m == nil {
			return nil, fmt.Errorf("path: %q cannot be read from %q on; it is written like $.when[*].assay_id", path, rest)
		}
		rest = rest[len(m[0]):]
		switch {
		case m[4] != "":
			steps = append(steps, step{all: true, position: -1})
		case m[3] != "":
			n, _ := strconv.Atoi(m[3])
			steps = append(steps, step{position: n})
		default:
			steps = append(steps, step{name: m[1] + m[2], position: -1})
		}
	}
	return steps, nil
}

// walker goes through canonical JSON, which has no blanks between its tokens and is
// known to be well-formed.
type walker struct {
	in    string
	at    int
	found func(start, end int)
	path  Form
}

// value passes one value; path is what is still to go to the ids, nil where this value
// is not on the way to one.
func (w *walker) value(path []step) error {
	wanted := path != nil && len(path) == 0
	start := w.at
	switch w.in[w.at] {
	case '{', '[':
		if wanted {
			return fmt.Errorf("it holds an object or an array where %s expects an id; correct the path in the catalog ([*] stands for all items)", w.path.text)
		}
		return w.items(path)
	case '"':
		w.text()
		if wanted {
			w.found(start+1, w.at-1)
		}
	default:
		for w.at < len(w.in) && !strings.ContainsRune(",]}", rune(w.in[w.at])) {
			w.at++
		}
		if c := w.in[start]; wanted && c >= '0' && c <= '9' {
			w.found(start, w.at)
		}
	}
	return nil
}

func (w *walker) text() string {
	start := w.at
	for w.at++; w.in[w.at] != '"'; w.at++ {
		if w.in[w.at] == '\\' {
			w.at++
		}
	}
	w.at++
	name, err := strconv.Unquote(w.in[start:w.at])
	if err != nil { // an escape that Go does not know
		return w.in[start+1 : w.at-1]
	}
	return name
}

func (w *walker) items(path []step) error {
	object := w.in[w.at] == '{'
	w.at++
	for n := 0; w.in[w.at] != '}' && w.in[w.at] != ']'; n++ {
		if w.in[w.at] == ',' {
			w.at++
		}
		name := ""
		if object {
			name = w.text()
			w.at++ // the colon
		}
		var rest []step
		if len(path) > 0 {
			s := path[0]
			if s.all || object && s.position < 0 && s.name == name || !object && s.position == n {
				rest = append([]step{}, path[1:]...)
			}
		}
		if err := w.value(rest); err != nil {
			return err
		}
	}
	w.at++
	return nil
}
