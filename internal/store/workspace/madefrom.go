package workspace

import (
	"fmt"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/limit"
	"anagram/internal/core/yamldoc"
	"anagram/internal/files/safe"
)

// MadeFrom says that an environment is a copy of another one as that was at a time; no environment is
// that nothing is said.
type MadeFrom struct {
	Environment string
	At          time.Time
}

// madeFromForm says which environment this one was copied from, and when.
type madeFromForm struct {
	Environment string `yaml:"environment"`
	On          string `yaml:"on"`
}

// readMadeFrom reads of which environment this one is a copy. A date means its end, in the zone of the
// environment.
func readMadeFrom(doc *yamldoc.Document, name string, described madeFromForm, e *Environment) error {
	if described == (madeFromForm{}) {
		return nil
	}
	at := []string{"environments", name, "made_from"}
	if described.Environment == "" || described.Environment == name {
		return doc.Errorf(at, "environment %s: made_from: names no other environment; it looks like {environment: production, on: 2026-10-01}", name)
	}
	zone := e.Zone
	if zone == nil {
		zone = time.UTC
	}
	day, err := time.ParseInLocation(time.DateOnly, described.On, zone)
	if err == nil {
		e.MadeFrom = MadeFrom{described.Environment, day.AddDate(0, 0, 1).Add(-time.Microsecond)}
		return nil
	}
	moment, err := time.Parse(time.RFC3339, described.On)
	if err != nil {
		return doc.Errorf(at, "environment %s: made_from: on: %q is neither a date such as 2026-10-01 nor a time such as 2026-10-01T06:00:00+02:00", name, described.On)
	}
	e.MadeFrom = MadeFrom{described.Environment, moment}
	return nil
}

// copies refuses an environment that is a copy of one that is not described.
func (w *Workspace) copies(doc *yamldoc.Document) error {
	var names []string
	for _, e := range w.Environments {
		names = append(names, e.Name)
	}
	for _, e := range w.Environments {
		if from := e.MadeFrom.Environment; from != "" && !slices.Contains(names, from) {
			return doc.Unknown([]string{"environments", e.Name, "made_from", "environment"}, "environment", from, names)
		}
	}
	return nil
}

// CopiedAt tells when one of two environments was copied from the other; ok is false where nothing
// says so.
func (w *Workspace) CopiedAt(a, b string) (of MadeFrom, ok bool) {
	for _, e := range w.Environments {
		if e.Name == a && e.MadeFrom.Environment == b || e.Name == b && e.MadeFrom.Environment == a {
			if e.MadeFrom.At.After(of.At) {
				of = e.MadeFrom
			}
		}
	}
	return of, of.Environment != ""
}

// Ahead refuses a moment that is still to come: it would say that nothing was ever changed. A date means
// its end, so that of today is none.
func (m MadeFrom) Ahead(now time.Time) error {
	if m.At.Before(now.AddDate(0, 0, 1)) {
		return nil
	}
	return &Error{Message: fmt.Sprintf("made_from: says that an environment was copied from %s on %s, which is still to come", m.Environment,
		m.At.UTC().Format("2006-01-02 15:04 UTC"))}
}

// SetMadeFrom writes into anagram.yaml that an environment is a copy of another one, and gives the
// moment that is meant. Nothing else of the file changes.
func (w *Workspace) SetMadeFrom(name, from, on string, now time.Time) (time.Time, error) {
	path := filepath.Join(w.Dir, ConfigName)
	source, err := safe.ReadSmall(path, limit.Configuration)
	if err != nil {
		return time.Time{}, err
	}
	line := fmt.Sprintf("made_from: {environment: %s, on: %s}", from, on)
	byHand := &Error{Message: fmt.Sprintf("environment %s is written in %s in a way that cannot be changed by itself; write %s below it", name,
		ConfigName, line)}
	whole, ok := withMadeFrom(string(source), name, line)
	if !ok {
		return time.Time{}, byHand
	}
	folder, after, err := w.tried(whole)
	if err != nil {
		return time.Time{}, err
	}
	want := slices.Clone(w.Environments)
	var at MadeFrom
	for i, e := range after.Environments {
		if e.Name == name && i < len(want) {
			at = e.MadeFrom
			want[i].MadeFrom, want[i].Line = at, e.Line
		}
	}
	for i := range min(len(want), len(after.Environments)) {
		want[i].Line = after.Environments[i].Line
	}
	if at.Environment != from || !reflect.DeepEqual(after.Environments, want) || !reflect.DeepEqual(after.Selections, w.Selections) {
		return time.Time{}, byHand
	}
	if err := at.Ahead(now); err != nil {
		return time.Time{}, err
	}
	w.Environments = after.Environments
	return at.At, safe.Replace(folder, path, []byte(whole))
}

// withMadeFrom gives the text of anagram.yaml with the line in an environment; ok is false where that
// is written in no way that is known.
func withMadeFrom(text, name, line string) (out string, ok bool) {
	lines := strings.SplitAfter(text, "\n")
	plain, quoted := regexp.QuoteMeta(name), regexp.QuoteMeta(`"`+name+`"`)
	head := regexp.MustCompile(`^[ \t]+(` + plain + `|` + quoted + `|'` + plain + `'):[ \t]*(\{.*\})?[ \t]*(#.*)?\r?\n?$`)
	at := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "environments:") })
	if at < 0 {
		return "", false
	}
	here := slices.IndexFunc(lines[at:], head.MatchString)
	if here < 0 {
		return "", false
	}
	here += at
	if end := strings.LastIndex(lines[here], "}"); end >= 0 && head.FindStringSubmatch(lines[here])[2] != "" {
		was := regexp.MustCompile(`,?[ \t]*made_from:[ \t]*\{[^{}]*\}`)
		one := was.ReplaceAllString(lines[here], "")
		end = strings.LastIndex(one, "}")
		lines[here] = one[:end] + ", " + line + one[end:]
		return strings.Join(lines, ""), true
	}
	outer, inner := indentOf(lines[here]), -1
	var kept []string
	for i := here + 1; i < len(lines); i++ {
		if !blank(lines[i]) && indentOf(lines[i]) <= outer {
			kept = append(kept, lines[i:]...)
			break
		}
		if inner < 0 && !blank(lines[i]) {
			inner = indentOf(lines[i])
		}
		if !strings.HasPrefix(strings.TrimLeft(lines[i], " \t"), "made_from:") {
			kept = append(kept, lines[i])
		}
	}
	if inner < 0 {
		return "", false
	}
	return strings.Join(lines[:here+1], "") + strings.Repeat(" ", inner) + line + "\n" + strings.Join(kept, ""), true
}
