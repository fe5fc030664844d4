package workspace

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"anagram/internal/core/limit"
	"anagram/internal/files/safe"
)

// PairsName is the file in which a workspace keeps its pairs: one JSON object a line.
const PairsName = "pairs.jsonl"

// Pair says that two addresses, of one record type, are one record.
type Pair struct {
	Old  string `json:"old"`
	New  string `json:"new"`
	By   string `json:"by"`
	At   string `json:"at"` // UTC, to the second
	Note string `json:"note,omitempty"`
	// Beside says that they are two records: Old of Source comes into Target as New, next to
	// the Old that is there.
	Beside bool   `json:"beside,omitempty"`
	Source string `json:"source,omitempty"`
	Target string `json:"target,omitempty"`
}

// Pairs reads what was said about records that changed their key.
func (w *Workspace) Pairs() ([]Pair, error) {
	path := filepath.Join(w.Dir, PairsName)
	source, err := safe.ReadSmall(path, limit.Manifest)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Pair
	lines := bufio.NewScanner(bytes.NewReader(source))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		var p Pair
		decoder := json.NewDecoder(bytes.NewReader(line))
		decoder.DisallowUnknownFields()
		err := decoder.Decode(&p)
		if err == nil && (p.Old == "" || p.New == "") {
			err = errors.New("old and new are both needed")
		}
		if err == nil && p.Beside != (p.Source != "" && p.Target != "") {
			err = errors.New("beside goes with source and target")
		}
		if err != nil {
			return nil, &Error{Message: fmt.Sprintf("%s line %d cannot be read: %v. Correct it, or remove the line", PairsName, n, err)}
		}
		out = append(out, p)
	}
	return out, lines.Err()
}

// AddPair keeps a pair. One that is there already, in either order, is not kept twice.
func (w *Workspace) AddPair(p Pair) (added bool, err error) {
	all, err := w.Pairs()
	if err != nil || slices.ContainsFunc(all, p.same) {
		return false, err
	}
	return true, w.writePairs(append(all, p))
}

// RemovePair forgets a pair, in either order.
func (w *Workspace) RemovePair(old, other string) (removed bool, err error) {
	all, err := w.Pairs()
	if err != nil {
		return false, err
	}
	left := slices.DeleteFunc(slices.Clone(all), Pair{Old: old, New: other}.same)
	if len(left) == len(all) {
		return false, nil
	}
	return true, w.writePairs(left)
}

func (p Pair) same(q Pair) bool {
	return p.Old == q.Old && p.New == q.New || p.Old == q.New && p.New == q.Old
}

func (w *Workspace) writePairs(all []Pair) error {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	for _, p := range all {
		if err := encoder.Encode(p); err != nil {
			return err
		}
	}
	scratch, err := w.Scratch()
	if err != nil {
		return err
	}
	return safe.Replace(scratch, filepath.Join(w.Dir, PairsName), out.Bytes())
}
