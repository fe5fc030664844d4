package workspace

import (
	"fmt"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"anagram/internal/core/limit"
	"anagram/internal/core/pattern"
	"anagram/internal/files/safe"
)

// A selection grows and shrinks by records while a change is built. Its list is rewritten;
// everything else in anagram.yaml stays as it stands, comments too.

// mostGathered is how many records a selection may name.
const mostGathered = 20_000

// SetRecords gives a selection another list of records and patterns; one that is not there yet
// is made.
func (w *Workspace) SetRecords(name string, records []string) error {
	if len(records) > mostGathered {
		return &Error{Message: fmt.Sprintf("the selection %q would name %d records; %d are the most. Select by type, area or condition instead", name, len(records), mostGathered)}
	}
	before, ok := w.Selections[name]
	if !ok {
		return w.SaveSelection(name, Selection{Records: records})
	}
	path := filepath.Join(w.Dir, ConfigName)
	source, err := safe.ReadSmall(path, limit.Configuration)
	if err != nil {
		return err
	}
	whole, err := withRecords(string(source), name, records)
	if err != nil {
		return err
	}
	// What is written must be what was meant, and nothing else may be another.
	folder, after, err := w.tried(whole)
	if err != nil {
		return err
	}
	want := before
	want.Records = records
	if len(records) == 0 {
		want.Records = nil
	}
	got := after.Selections[name]
	if len(got.Records) == 0 {
		got.Records = nil
	}
	same := reflect.DeepEqual(got, want) && len(after.Selections) == len(w.Selections) &&
		reflect.DeepEqual(after.Environments, w.Environments)
	for other, was := range w.Selections {
		same = same && (other == name || reflect.DeepEqual(after.Selections[other], was))
	}
	if !same {
		return &Error{Message: fmt.Sprintf("the selection %q is written in %s in a way that cannot be changed by itself; write its records: as a list, each on a line of its own", name, ConfigName)}
	}
	return safe.Replace(folder, path, []byte(whole))
}

// withRecords gives the text of anagram.yaml with another list of records in a selection that
// is written on lines of its own.
func withRecords(text, name string, records []string) (string, error) {
	lines := strings.SplitAfter(text, "\n")
	begin, end := block(lines, name)
	if begin < 0 {
		return "",
			&Error{Message: fmt.Sprintf("the selection %q is written on one line in %s, so nothing can be added to it; write it on lines of its own", name, ConfigName)}
	}
	inner := indentOf(lines[begin]) + 2
	if end > begin+1 {
		inner = indentOf(lines[begin+1])
	}
	from, to := recordsIn(lines, begin+1, end, inner)
	list, err := recordLines(records, inner)
	if err != nil {
		return "", err
	}
	if from > 0 && !strings.HasSuffix(lines[from-1], "\n") { // the last line of the file
		list = "\n" + list
	}
	return strings.Join(lines[:from], "") + list + strings.Join(lines[to:], ""), nil
}

var selectionsHead = pattern.Of(`^selections:[ \t]*(#.*)?\r?\n?$`)

// block gives the lines of a selection: that with its name, and the one after its last; -1 where
// it is not written so.
func block(lines []string, name string) (begin, end int) {
	at := slices.IndexFunc(lines, selectionsHead.MatchString)
	if at < 0 {
		return -1, -1
	}
	plain, quoted := regexp.QuoteMeta(name), regexp.QuoteMeta(strconv.Quote(name))
	head := regexp.MustCompile(`^([ \t]+)(` + plain + `|` + quoted + `|'` + plain + `'):[ \t]*(#.*)?\r?\n?$`)
	begin = slices.IndexFunc(lines[at+1:], head.MatchString)
	if begin < 0 {
		return -1, -1
	}
	begin += at + 1
	outer := indentOf(lines[begin])
	end = begin + 1
	for end < len(lines) && (blank(lines[end]) || indentOf(lines[end]) > outer) {
		end++
	}
	for end > begin+1 && blank(lines[end-1]) {
		end--
	}
	return begin, end
}

// recordsIn gives the lines of the list of records; none, at the end, where there is no list.
func recordsIn(lines []string, begin, end, inner int) (from, to int) {
	for i := begin; i < end; i++ {
		if indentOf(lines[i]) != inner || !strings.HasPrefix(strings.TrimLeft(lines[i], " \t"), "records:") {
			continue
		}
		for to = i + 1; to < end && !blank(lines[to]) && continues(lines[to], inner); to++ {
			continue
		}
		return i, to
	}
	return end, end
}

// continues reports whether a line goes on with the value of a key with an indentation.
func continues(line string, indent int) bool {
	own := indentOf(line)
	return own > indent || own == indent && strings.HasPrefix(strings.TrimLeft(line, " \t"), "- ")
}

func recordLines(records []string, indent int) (string, error) {
	pad := strings.Repeat(" ", indent)
	if len(records) == 0 {
		return pad + "records: []\n", nil
	}
	out := pad + "records:\n"
	for _, r := range records {
		word, err := yaml.Marshal(r)
		if err != nil {
			return "", err
		}
		out += pad + "  - " + strings.TrimSpace(string(word)) + "\n"
	}
	return out, nil
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

func blank(line string) bool { return strings.TrimSpace(line) == "" }
