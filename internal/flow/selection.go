package flow

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
)

// selection is an export's request, made ready.
type selection struct {
	types    []string // all record types that are chosen from, in dependency order
	whole    map[string]bool
	filtered map[string]bool // of which only what fulfils conditions is chosen
	patterns []record.Pattern
	leaveOut []record.Pattern
	where    map[string][]*condition.Condition
	related  string
	// Of what is asked for by date: types without stamps, of which all records are chosen,
	// and parts without stamps, which only come along with their owners.
	unstamped, unstampedParts []string
}

func selectTypes(c *catalog.Catalog, s parcel.Selection) (selection, error) {
	out := selection{whole: map[string]bool{}, filtered: map[string]bool{}, where: map[string][]*condition.Condition{}, related: s.Related}
	switch out.related {
	case "":
		out.related = parcel.RelatedAll
	case parcel.RelatedAll, parcel.RelatedParts, parcel.RelatedNone:
	default:
		return out, usage("--related is all, parts or none, not %q", s.Related)
	}
	touched := map[string]bool{}
	add := func(name string) {
		out.whole[name], touched[name] = true, true
	}
	if len(s.Areas)+len(s.Types)+len(s.Records)+len(s.Where) == 0 {
		for _, name := range c.Names() {
			add(name)
		}
	}
	for _, name := range s.Areas {
		area, ok := c.Area(name)
		if !ok {
			var names []string
			for _, a := range c.Areas {
				names = append(names, a.Name)
			}
			return out, usage("The catalog has no area %q%s", name, yamldoc.Nearest(name, names))
		}
		for _, typ := range area.Types {
			add(typ)
		}
	}
	for _, name := range s.Types {
		if _, ok := c.Type(name); !ok {
			return out, unknownType(c, name)
		}
		add(name)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Where)) {
		if _, ok := c.Type(name); !ok {
			return out, unknownType(c, name)
		}
		touched[name], out.filtered[name] = true, true
	}
	for _, text := range s.Records {
		p, err := readPattern(c, text)
		if err != nil {
			return out, err
		}
		out.patterns = append(out.patterns, p)
		for _, name := range c.Names() {
			if p.WholeType(name) {
				add(name)
			} else if p.Type() == "" || p.Type() == name {
				touched[name] = true
			}
		}
	}
	for _, text := range s.LeaveOut {
		p, err := readPattern(c, text)
		if err != nil {
			return out, err
		}
		out.leaveOut = append(out.leaveOut, p)
	}
	for name := range out.whole {
		t, _ := c.Type(name)
		switch {
		case out.leavesOutType(name):
			delete(touched, name)
			delete(out.whole, name)
		case s.Since != "" && t.StampAt != "":
			out.filtered[name] = true
		case s.Since != "" && t.PartOf != "" && !slices.Contains(s.Types, name):
			// Whether it changed cannot be told; it comes along with its owner.
			out.unstampedParts = append(out.unstampedParts, name)
			delete(touched, name)
			delete(out.whole, name)
		case s.Since != "":
			out.unstamped = append(out.unstamped, name)
		}
		if out.filtered[name] {
			delete(out.whole, name)
		}
	}
	for _, name := range c.Names() {
		if touched[name] {
			out.types = append(out.types, name)
		}
	}
	slices.Sort(out.unstamped)
	slices.Sort(out.unstampedParts)
	return out, nil
}

func readPattern(c *catalog.Catalog, text string) (record.Pattern, error) {
	p, err := record.ParsePattern(text)
	if err != nil {
		return p, usage("%v", err)
	}
	if name := p.Type(); name != "" {
		if _, ok := c.Type(name); !ok {
			return p, unknownType(c, name)
		}
	}
	return p, nil
}

func unknownType(c *catalog.Catalog, name string) error {
	return usage("The catalog has no record type %q%s", name, yamldoc.Nearest(name, c.Names()))
}

// compile makes the conditions ready for the fields of an environment.
func (s *selection) compile(c *catalog.Catalog, environment string, places map[string]catalog.Place, from parcel.Selection) error {
	for name := range s.filtered {
		t, _ := c.Type(name)
		known := t.Known(places[t.Place(environment)])
		add := func(text string) error {
			compiled, err := condition.Compile(text, name, known)
			if err != nil {
				return usage("%v", err)
			}
			s.where[name] = append(s.where[name], compiled)
			return nil
		}
		if text := from.Where[name]; text != "" {
			if err := add(text); err != nil {
				return err
			}
		}
		if from.Since == "" || t.StampAt == "" {
			continue
		}
		at := slices.IndexFunc(known, func(f record.Field) bool { return f.Name == t.StampAt })
		if at < 0 {
			continue
		}
		moment := fmt.Sprintf("timestamp('%s')", from.Since)
		switch known[at].Kind {
		case record.Date:
			moment = fmt.Sprintf("date('%s')", from.Since[:len(time.DateOnly)])
		case record.Timestamp, record.LocalTimestamp:
		default:
			return usage("Field %s of %s holds %s, not times, so what changed since %s cannot be told; say what it holds with as: in the catalog, or leave the type out", t.StampAt, name, known[at].Kind, from.Since)
		}
		// What has no stamp may have changed.
		if err := add(fmt.Sprintf("%s == null || %s >= %s", t.StampAt, t.StampAt, moment)); err != nil {
			return err
		}
	}
	return nil
}

// leavesOutType reports whether nothing of a type is wanted.
func (s selection) leavesOutType(typ string) bool {
	return slices.ContainsFunc(s.leaveOut, func(p record.Pattern) bool { return p.WholeType(typ) })
}

// leavesOut reports whether a record is left out: by its own address, or because it is
// part of one that is, as far as its key tells.
func (s selection) leavesOut(c *catalog.Catalog, typ string, key record.Key) bool {
	if len(s.leaveOut) == 0 {
		return false
	}
	address := c.Address(typ, key)
	if slices.ContainsFunc(s.leaveOut, func(p record.Pattern) bool { return p.Match(address) }) {
		return true
	}
	t, ok := c.Type(typ)
	if !ok || t.PartOf == "" {
		return false
	}
	at := slices.Index(t.Key, t.OwnerField())
	if at < 0 || key.Parts()[at].IsNull() {
		return false
	}
	return s.leavesOut(c, t.PartOf, key.Parts()[at].Key())
}

// matches gives the pattern that selects a record by name, -1 for none.
func (s selection) matches(address string) int {
	return slices.IndexFunc(s.patterns, func(p record.Pattern) bool { return p.Match(address) })
}

// patternsFor gives the patterns that may select records of a type: those that are one
// address each, and whether there are others.
func (s selection) patternsFor(typ string) (exact []string, others bool) {
	for _, p := range s.patterns {
		switch {
		case p.Type() != "" && p.Type() != typ || p.WholeType(typ):
		case p.Exact():
			exact = append(exact, p.String())
		default:
			others = true
		}
	}
	return exact, others
}

// Selection gives a saved selection with what was added to it.
func (s *Session) Selection(saved string, more parcel.Selection) (parcel.Selection, error) {
	if saved == "" {
		return more, nil
	}
	base, ok := s.Workspace.Selections[saved]
	if !ok {
		return more, usage("anagram.yaml has no selection %q%s", saved, yamldoc.Nearest(saved, slices.Collect(maps.Keys(s.Workspace.Selections))))
	}
	out := parcel.Selection(base)
	out.Saved = saved
	out.Areas = append(slices.Clone(out.Areas), more.Areas...)
	out.Types = append(slices.Clone(out.Types), more.Types...)
	out.Records = append(slices.Clone(out.Records), more.Records...)
	out.LeaveOut = append(slices.Clone(out.LeaveOut), more.LeaveOut...)
	out.Where = maps.Clone(out.Where)
	for typ, text := range more.Where {
		if out.Where == nil {
			out.Where = map[string]string{}
		}
		if have := out.Where[typ]; have != "" {
			text = "(" + have + ") && (" + text + ")"
		}
		out.Where[typ] = text
	}
	if more.ChangedSince != "" {
		out.ChangedSince = more.ChangedSince
	}
	if more.Related != "" {
		out.Related = more.Related
	}
	out.NoFiles = out.NoFiles || more.NoFiles
	return out, nil
}

var sinceImport = regexp.MustCompile(`^last-import(?::(.+))?$`)

// since says which moment changed-since stands for: a date, a time, or the last import
// from this source, whose records are those of the parcel that was imported then.
func (s *Session) since(ctx context.Context, source, target, text string) (string, error) {
	if text == "" {
		return "", nil
	}
	if m := sinceImport.FindStringSubmatch(text); m != nil {
		if m[1] != "" {
			target = m[1]
		}
		if target == "" {
			return "", usage("--changed-since last-import needs to know the target: last-import:TARGET")
		}
		if _, err := s.Workspace.Environment(target); err != nil {
			return "", err
		}
		moment, err := s.lastImport(ctx, source, target)
		if err == nil && moment == "" {
			err = usage("Nothing was imported from %s into %s yet, so there is no last import; leave --changed-since out, or give a date", source, target)
		}
		return moment, err
	}
	for _, form := range []string{time.RFC3339, time.DateOnly, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04"} {
		if t, err := time.Parse(form, text); err == nil {
			return t.UTC().Format(time.RFC3339), nil
		}
	}
	return "", usage("--changed-since %q is neither a date such as 2026-11-23, nor a time such as 2026-11-23T08:00:00Z, nor last-import:TARGET", text)
}

// lastImport gives when the parcel of the last import was exported, "" for none.
func (s *Session) lastImport(ctx context.Context, source, target string) (string, error) {
	summaries, err := s.Summaries(ctx)
	if err != nil {
		return "", err
	}
	latest := ""
	for _, d := range summaries {
		if d.Err != nil || d.Header.Source != source || d.Header.Target != target {
			continue
		}
		if slices.ContainsFunc(d.Runs, docket.Run.Done) {
			latest = max(latest, d.Header.ExportedAt)
		}
	}
	if t, err := time.Parse(time.RFC3339, latest); err == nil {
		latest = t.UTC().Format(time.RFC3339)
	}
	return latest, nil
}

// SelectionWords says in words what a selection is.
func SelectionWords(s parcel.Selection) string {
	var out []string
	add := func(word string, list []string) {
		if len(list) > 0 {
			out = append(out, word+strings.Join(list, ", "))
		}
	}
	if len(s.Areas)+len(s.Types)+len(s.Records)+len(s.Where) == 0 {
		out = append(out, "everything in the catalog")
	}
	add("area ", s.Areas)
	add("", s.Types)
	add("", s.Records)
	for _, typ := range slices.Sorted(maps.Keys(s.Where)) {
		out = append(out, typ+" where "+s.Where[typ])
	}
	if s.Since != "" {
		out = append(out, "changed since "+s.Since)
	}
	add("left out: ", s.LeaveOut)
	if s.NoFiles {
		out = append(out, "without attachments")
	}
	if s.Related == parcel.RelatedNone || s.Related == parcel.RelatedParts {
		out = append(out, "related: "+s.Related)
	}
	return strings.Join(out, "; ")
}

// SaveSelection keeps a selection in the workspace under a name.
func (s *Session) SaveSelection(name string, selection parcel.Selection) error {
	selection.Saved, selection.Since = "", ""
	return s.Workspace.SaveSelection(name, workspace.Selection(selection))
}
