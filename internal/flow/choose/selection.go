package choose

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
)

// Chosen is an export's request, made ready.
type Chosen struct {
	Types    []string // all record types that are chosen from, in dependency order
	Whole    map[string]bool
	filtered map[string]bool // of which only what fulfils conditions is chosen
	Patterns []record.Pattern
	LeaveOut []record.Pattern
	left     []bool // by pattern of what is left out: a record fitted it
	Where    map[string][]*condition.Condition
	Related  string
	// Of what is asked for by date: types without stamps, of which all records are chosen,
	// and parts without stamps, which only come along with their owners.
	Unstamped, UnstampedParts []string
	// NeverBrought are types that were in no import so far, so that all of them is taken.
	NeverBrought []string
	waiting      waiting // what no import brought of earlier dockets
}

// WithWaiting adds what earlier dockets of a pair had and no import brought, where what changed since
// its last import is asked for.
func (s *Chosen) WithWaiting(ctx context.Context, of *session.Session, from parcel.Selection, source, target string) error {
	if from.SinceBy == nil {
		return nil
	}
	if m := sinceImport.FindStringSubmatch(from.ChangedSince); m != nil && m[1] != "" {
		target = m[1]
	}
	var err error
	s.waiting, err = notBrought(ctx, of, source, target)
	for typ := range from.Where { // of those only what fulfils the condition is wanted
		delete(s.waiting, typ)
	}
	return err
}

// SelectTypes makes a selection ready: which types it chooses from, and how.
func SelectTypes(c *catalog.Catalog, s parcel.Selection) (Chosen, error) {
	out := Chosen{Whole: map[string]bool{}, filtered: map[string]bool{}, Where: map[string][]*condition.Condition{}, Related: s.Related}
	if out.Related == "" {
		out.Related = parcel.RelatedAll
	}
	if !slices.Contains([]string{parcel.RelatedAll, parcel.RelatedParts, parcel.RelatedNone}, out.Related) {
		return out, session.Usage("--related is all, parts or none, not %q", s.Related)
	}
	types, err := typesNamed(c, s.Types)
	if err != nil {
		return out, err
	}
	s.Types = types
	touched := map[string]bool{}
	if err := out.named(c, s, touched); err != nil {
		return out, err
	}
	if err := out.patterns(c, s, touched); err != nil {
		return out, err
	}
	out.since(c, s, touched)
	for _, name := range c.Names() {
		if touched[name] {
			out.Types = append(out.Types, name)
		}
	}
	return out, nil
}

// named takes what is chosen by area, type and condition; nothing at all is everything.
func (s *Chosen) named(c *catalog.Catalog, from parcel.Selection, touched map[string]bool) error {
	whole := slices.Clone(from.Types)
	if len(from.Areas)+len(from.Types)+len(from.Records)+len(from.Where) == 0 {
		whole = c.Names()
	}
	for _, name := range from.Areas {
		area, ok := c.Area(name)
		if !ok {
			var names []string
			for _, a := range c.Areas {
				names = append(names, a.Name)
			}
			return session.Usage("The catalog has no area %q%s", name, yamldoc.Nearest(name, names))
		}
		whole = append(whole, area.Types...)
	}
	for _, name := range slices.Concat(whole, slices.Sorted(maps.Keys(from.Where))) {
		if _, ok := c.Type(name); !ok {
			return session.UnknownType(c, name)
		}
		touched[name] = true
	}
	for _, name := range whole {
		s.Whole[name] = true
	}
	for name := range from.Where {
		s.filtered[name] = true
	}
	return nil
}

// patterns takes what is chosen and left out by address.
func (s *Chosen) patterns(c *catalog.Catalog, from parcel.Selection, touched map[string]bool) error {
	for _, text := range from.Records {
		p, err := readPattern(c, text)
		if err != nil {
			return err
		}
		s.Patterns = append(s.Patterns, p)
		for _, name := range c.Names() {
			switch {
			case p.WholeType(name):
				s.Whole[name], touched[name] = true, true
			case p.Type() == "" || p.Type() == name:
				touched[name] = true
			}
		}
	}
	for _, text := range from.LeaveOut {
		p, err := readPattern(c, text)
		if err != nil {
			return err
		}
		s.LeaveOut = append(s.LeaveOut, p)
	}
	s.left = make([]bool, len(s.LeaveOut))
	return nil
}

// since makes of whole types those of which only what changed is chosen, and drops those
// that are left out.
func (s *Chosen) since(c *catalog.Catalog, from parcel.Selection, touched map[string]bool) {
	for name := range s.Whole {
		t, _ := c.Type(name)
		dated := from.Dated()
		switch {
		case s.LeavesOutType(name):
			delete(touched, name)
			delete(s.Whole, name)
		case dated && t.StampAt != "" && from.Moment(name) == "":
			s.NeverBrought = append(s.NeverBrought, name)
		case dated && t.StampAt != "":
			s.filtered[name] = true
		case dated && t.PartOf != "" && !slices.Contains(from.Types, name):
			// Whether it changed cannot be told; it comes along with its owner.
			s.UnstampedParts = append(s.UnstampedParts, name)
			delete(touched, name)
			delete(s.Whole, name)
		case dated:
			s.Unstamped = append(s.Unstamped, name)
		}
		if s.filtered[name] {
			delete(s.Whole, name)
		}
	}
	slices.Sort(s.Unstamped)
	slices.Sort(s.NeverBrought)
	slices.Sort(s.UnstampedParts)
}

func readPattern(c *catalog.Catalog, text string) (record.Pattern, error) {
	p, err := record.ParsePattern(text)
	if err != nil {
		return p, session.Usage("%v", err)
	}
	if name := p.Type(); name != "" {
		if _, ok := c.Type(name); !ok {
			return p, session.UnknownType(c, name)
		}
	}
	return p, nil
}

// Compile makes the conditions ready for the fields of an environment.
// Zone is that of its stamps without one.
func (s *Chosen) Compile(c *catalog.Catalog, target string, about environment.Description, from parcel.Selection) error {
	places, zone := about.Places, about.Zone
	for name := range s.filtered {
		t, _ := c.Type(name)
		known := t.Known(places[t.Place(target)])
		add := func(text string) error {
			compiled, err := condition.Compile(text, name, known)
			if err != nil {
				return session.Usage("%v", err)
			}
			s.Where[name] = append(s.Where[name], compiled)
			return nil
		}
		if text := from.Where[name]; text != "" {
			if err := add(text); err != nil {
				return err
			}
		}
		since := from.Moment(name)
		if since == "" || t.StampAt == "" {
			continue
		}
		at := slices.IndexFunc(known, func(f record.Field) bool { return f.Name == t.StampAt })
		if at < 0 {
			continue
		}
		if from.SinceBy != nil {
			since = withMargin(since)
		}
		since = stampMoment(since, known[at].Kind, zone)
		moment := fmt.Sprintf("timestamp('%s')", since)
		switch known[at].Kind {
		case record.Date:
			moment = fmt.Sprintf("date('%s')", since[:len(time.DateOnly)])
		case record.Timestamp, record.LocalTimestamp:
		default:
			return session.Usage("Field %s of %s holds %s, not times, so what changed since %s cannot be told; say what it holds with as: in the catalog, or leave the type out", t.StampAt, name, known[at].Kind, since)
		}
		// What has no stamp may have changed.
		if err := add(fmt.Sprintf("%s == null || %s >= %s", t.StampAt, t.StampAt, moment)); err != nil {
			return err
		}
	}
	return nil
}

// LeavesOutType reports whether nothing of a type is wanted.
func (s Chosen) LeavesOutType(typ string) bool {
	return slices.ContainsFunc(s.LeaveOut, func(p record.Pattern) bool { return p.WholeType(typ) })
}

// LeavesOut reports whether a record is left out: by its own address, or because it is
// part of one that is, as far as its key tells.
func (s Chosen) LeavesOut(c *catalog.Catalog, typ string, key record.Key) bool {
	if len(s.LeaveOut) == 0 {
		return false
	}
	address := c.Address(typ, key)
	out := false
	for i, p := range s.LeaveOut {
		if p.Match(address) {
			s.left[i], out = true, true
		}
	}
	if out {
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
	return s.LeavesOut(c, t.PartOf, key.Parts()[at].Key())
}

// Matches gives the pattern that selects a record by name, -1 for none.
func (s Chosen) Matches(address string) int {
	return slices.IndexFunc(s.Patterns, func(p record.Pattern) bool { return p.Match(address) })
}

// PatternsFor gives the patterns that may select records of a type: those that are one
// address each, and whether there are others.
func (s Chosen) PatternsFor(typ string) (exact []string, others bool) {
	for _, p := range s.Patterns {
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
func Selection(s *session.Session, saved string, more parcel.Selection) (parcel.Selection, error) {
	if saved == "" {
		return more, nil
	}
	base, ok := s.Workspace.Selections[saved]
	if !ok {
		return more, session.Usage("anagram.yaml has no selection %q%s", saved,
			yamldoc.Nearest(saved, slices.Collect(maps.Keys(s.Workspace.Selections))))
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

var sinceImport = pattern.Of(`^last-import(?::(.+))?$`)

// Since says which moment changed-since stands for: a date, a time, or the last import
// from this source, whose records are those of the parcel that was imported then.
//
// Of a last import it is another moment for each record type: when the source was read from
// which that type was brought as a whole, or all that had changed of it. A type that never
// was is not among them.
func Since(ctx context.Context, s *session.Session, source, target, text string) (moment string, by map[string]string, err error) {
	if text == "" {
		return "", nil, nil
	}
	if m := sinceImport.FindStringSubmatch(text); m != nil {
		if m[1] != "" {
			target = m[1]
		}
		if target == "" {
			return "", nil, session.Usage("--changed-since last-import needs to know the target: last-import:TARGET")
		}
		if _, err := s.Workspace.Environment(target); err != nil {
			return "", nil, err
		}
		by, err := lastImport(ctx, s, source, target)
		if err == nil && len(by) == 0 {
			err = session.Usage("Nothing was imported from %s into %s yet, so there is no last import; leave --changed-since out, or give a date", source, target)
		}
		return "", by, err
	}
	if t, ok := session.Moment(text); ok {
		return t.Format(time.RFC3339), nil, nil
	}
	return "", nil,
		session.Usage("--changed-since %q is neither a date such as 2026-11-23, nor a time such as 2026-11-23T08:00:00Z, nor last-import:TARGET", text)
}

// lastImport gives when the parcel of the last import was exported, "" for none.
func lastImport(ctx context.Context, s *session.Session, source, target string) (map[string]string, error) {
	summaries, err := s.Pasts(ctx)
	if err != nil {
		return nil, err
	}
	var done []docket.Header
	for _, d := range summaries {
		if d.Err == nil && d.Header.Source == source && d.Header.Target == target && slices.ContainsFunc(d.Runs, run.Run.Done) {
			done = append(done, d.Header)
		}
	}
	slices.SortStableFunc(done, func(a, b docket.Header) int { return strings.Compare(a.ExportedAt, b.ExportedAt) })
	out := map[string]string{}
	for _, h := range done {
		exported := h.ExportedAt
		if t, err := time.Parse(time.RFC3339, exported); err == nil {
			exported = t.UTC().Format(time.RFC3339)
		}
		for typ, since := range h.Brings {
			// What was brought since a moment continues what was brought up to then.
			if since == "" || out[typ] != "" && since <= out[typ] {
				out[typ] = exported
			}
		}
	}
	return out, nil
}

// clocks is how far the clocks of a database, its applications and this machine may be
// apart: so much more is taken than what seems to have changed.
const clocks = 5 * time.Minute

func withMargin(since string) string {
	t, err := time.Parse(time.RFC3339, since)
	if err != nil {
		return since
	}
	return t.Add(-clocks).UTC().Format(time.RFC3339)
}

// stampMoment gives a moment as stamps of a kind tell it: in a zone where they have none.
func stampMoment(since string, kind record.Kind, zone *time.Location) string {
	t, err := time.Parse(time.RFC3339, since)
	if err != nil {
		return since
	}
	if kind != record.Timestamp && zone != nil {
		local := t.In(zone)
		t = time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), local.Second(), 0, time.UTC)
	}
	return t.UTC().Format(time.RFC3339)
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
	if s.SinceBy != nil {
		out = append(out, "changed since the last import of each record type")
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
func SaveSelection(s *session.Session, name string, selection parcel.Selection) error {
	selection.Saved, selection.Since, selection.SinceBy = "", "", nil
	return s.Workspace.SaveSelection(name, workspace.Selection(selection))
}
