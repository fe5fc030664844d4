package decide

import (
	"context"
	"iter"
	"path"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// Which says which findings are meant. What is empty does not limit.
type Which struct {
	Patterns  []string
	Statuses  []match.Status
	Types     []string
	Decisions []docket.Decision // as they stand; open means those that ask for a decision
	By        []string          // who decided
	Checks    []string          // codes of checks, one of which they have
	Before    bool              // an earlier docket approved them, on the values that both sides still have
	Group     string            // address of a record: the group that it is in, or heads
}

// Any reports whether something limits it beside patterns.
func (w Which) Any() bool {
	return len(w.Statuses)+len(w.Types)+len(w.Decisions)+len(w.By)+len(w.Checks) > 0 || w.Group != "" || w.Before
}

// Reviewed is a finding with its checks, static ones and those that follow from the
// decisions as they are.
type Reviewed struct {
	docket.Finding
	Checks []check.Check
	Said   []docket.Comment // what was asked and answered
}

// Blocked reports whether something stands in the way of the finding.
func (r Reviewed) Blocked() bool {
	return slices.ContainsFunc(r.Checks, func(c check.Check) bool { return c.Level == check.Blocker })
}

// order says how findings come.
type order int

const (
	byKey    order = iota // by type in dependency order, and key
	byStatus              // by type, status and key
	byGroup               // by group, the head of each first
)

// selected is what a docket is asked for: which findings, and what is known about all.
type selected struct {
	d        *docket.Docket
	session  *session.Session
	which    Which
	filter   docket.Filter
	static   map[int64][]docket.Check
	said     map[int64][]docket.Comment
	standing standing.Standing
	demand   standing.Demand
}

// choose reads what findings are meant. A type, a status, a pattern or a group that the
// docket does not know is an error with the nearest word.
func choose(ctx context.Context, of *session.Session, d *docket.Docket, w Which) (selected, error) {
	s := selected{d: d, session: of, which: w}
	var err error
	if s.demand, err = standing.Demanded(of, d); err != nil {
		return s, err
	}
	if s.filter, err = findingFilter(d, w); err != nil {
		return s, err
	}
	if s.filter, err = d.WithNames(ctx, s.filter); err != nil {
		return s, err
	}
	if w.Group != "" {
		if s.filter.Group, err = groupOf(ctx, d, w.Group); err != nil {
			return s, err
		}
	}
	if s.static, err = d.Checks(ctx); err != nil {
		return s, err
	}
	said, err := d.Comments(ctx)
	if err != nil {
		return s, err
	}
	s.said = map[int64][]docket.Comment{}
	for _, c := range said {
		s.said[c.Finding] = append(s.said[c.Finding], c)
	}
	s.standing, err = standing.Read(ctx, d, s.demand)
	return s, err
}

// each gives the findings that are meant.
func (s selected) each(ctx context.Context, by order) iter.Seq2[Reviewed, error] {
	return func(yield func(Reviewed, error) bool) {
		filter := s.filter
		filter.ByStatus, filter.ByGroup = by == byStatus, by == byGroup
		for f, err := range s.d.Findings(ctx, filter) {
			if err != nil {
				yield(Reviewed{}, err)
				return
			}
			r := s.with(f)
			if s.which.fits(r) && !yield(r, nil) {
				return
			}
		}
	}
}

// with gives a finding its checks.
func (s selected) with(f docket.Finding) Reviewed {
	r := Reviewed{Finding: f, Said: s.said[f.ID]}
	for _, c := range s.static[f.ID] {
		// Of what is decided only those blockers count that stand in the way of it.
		decided := c.Level == check.Blocker && slices.Contains([]docket.Decision{docket.Approved, docket.Declined, docket.TargetKept}, f.Stand())
		if !c.Partial && !decided {
			r.Checks = append(r.Checks, c.Check)
		}
	}
	for _, c := range s.standing.Blocked[f.ID] {
		if !slices.ContainsFunc(r.Checks, c.Is) {
			r.Checks = append(slices.Clone(r.Checks), c)
		}
	}
	return r
}

// fits reports whether a finding is among those meant, as far as the docket could not say it.
func (w Which) fits(r Reviewed) bool {
	if len(w.Decisions) > 0 {
		stand := r.Stand()
		asks := r.Asks() || slices.Contains(w.Statuses, r.Status)
		if !slices.Contains(w.Decisions, stand) || stand == docket.Undecided && !asks {
			return false
		}
	}
	if len(w.By) > 0 && !slices.ContainsFunc(w.By, r.DecidedByOne) {
		return false
	}
	return len(w.Checks) == 0 || slices.ContainsFunc(r.Checks, func(c check.Check) bool { return slices.Contains(w.Checks, string(c.Code)) })
}

// groupOf gives the number of the group that a record heads, or is in.
func groupOf(ctx context.Context, d *docket.Docket, address string) (int, error) {
	groups, err := d.Groups(ctx)
	if err != nil {
		return 0, err
	}
	for _, g := range groups {
		if g.Address == address {
			return g.Number, nil
		}
	}
	p, err := record.ParsePattern(address)
	if err != nil {
		return 0, session.Usage("%v", err)
	}
	if !p.Exact() {
		return 0, session.Usage("--group takes one record's address, such as assay/GLU, not the pattern %q", address)
	}
	for f, err := range d.Findings(ctx, docket.Filter{Patterns: []record.Pattern{p}}) {
		if err != nil {
			return 0, err
		}
		return f.Group, nil
	}
	return 0, session.Usage("Docket %d has no group of %s; anagram review %d lists the groups", d.Header.Number, address, d.Header.Number)
}

// findingFilter reads patterns and names; a type or status that the docket does not
// know is an error with the nearest word.
// starred puts the types that patterns such as price_* name in their place; known is nil where
// nothing fits one.
func starred(wanted, names []string) (types, known []string) {
	for _, name := range wanted {
		if !record.HasStar(name) {
			types = append(types, name)
			continue
		}
		fits := false
		for _, typ := range names {
			if ok, err := path.Match(name, typ); err == nil && ok {
				fits = true
				types = append(types, typ)
			}
		}
		if !fits {
			return nil, nil
		}
	}
	return types, append([]string{}, names...)
}

func findingFilter(d *docket.Docket, w Which) (docket.Filter, error) {
	filter := docket.Filter{Statuses: w.Statuses, Types: w.Types, Before: w.Before}
	var words []string
	for _, s := range match.Statuses() {
		words = append(words, string(s))
	}
	for _, status := range w.Statuses {
		if !slices.Contains(words, string(status)) {
			return filter, session.Usage("The status %q is not known%s", status, yamldoc.Nearest(string(status), words))
		}
	}
	if err := knownDecisions(w.Decisions); err != nil {
		return filter, err
	}
	codes := check.Codes()
	for _, code := range w.Checks {
		if !slices.Contains(codes, code) {
			return filter, session.Usage("The check %q is not known%s", code, yamldoc.Nearest(code, codes))
		}
	}
	var names []string
	for _, t := range d.Types {
		names = append(names, t.Name)
	}
	known := func(name string) error {
		if name != "" && !slices.Contains(names, name) {
			return session.Usage("Docket %d has no record type %q%s", d.Header.Number, name, yamldoc.Nearest(name, names))
		}
		return nil
	}
	if filter.Types, names = starred(w.Types, names); names == nil {
		return filter, session.Usage("Docket %d has no record type that fits %s", d.Header.Number, strings.Join(w.Types, ", "))
	}
	for _, typ := range filter.Types {
		if err := known(typ); err != nil {
			return filter, err
		}
	}
	for _, text := range w.Patterns {
		p, err := record.ParsePattern(text)
		if err != nil {
			return filter, session.Usage("%v", err)
		}
		if err := known(p.Type()); err != nil {
			return filter, err
		}
		filter.Patterns = append(filter.Patterns, p)
	}
	return filter, nil
}

func knownDecisions(decisions []docket.Decision) error {
	words := []string{string(docket.Undecided), string(docket.Approved), string(docket.Declined), string(docket.Held), string(docket.TargetKept)}
	for _, d := range decisions {
		if !slices.Contains(words, string(d)) {
			return session.Usage("The decision %q is not known%s", d, yamldoc.Nearest(string(d), words))
		}
	}
	return nil
}
