package decide

import (
	"cmp"
	"context"
	"slices"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

// Review gives the findings that are meant, by type in dependency order, status and key.
func Review(ctx context.Context, of *session.Session, d *docket.Docket, w Which, give func(Reviewed) error) error {
	return review(ctx, of, d, w, byStatus, give)
}

// ReviewGroups is Review in the order of groups, the head of each first.
func ReviewGroups(ctx context.Context, of *session.Session, d *docket.Docket, w Which, give func(Reviewed) error) error {
	return review(ctx, of, d, w, byGroup, give)
}

func review(ctx context.Context, of *session.Session, d *docket.Docket, w Which, by order, give func(Reviewed) error) error {
	s, err := choose(ctx, of, d, w)
	if err != nil {
		return err
	}
	for r, err := range s.each(ctx, by) {
		if err != nil {
			return err
		}
		if err := give(r); err != nil {
			return err
		}
	}
	return nil
}

// Grouped is a group with what its findings come to, of those that are meant.
type Grouped struct {
	docket.Group
	Worst   match.Status // the first of its statuses, in their order
	Counts  []Kind       // in the order of types and statuses
	Shown   int          // findings that are meant
	Blocked int          // those of them that something stands in the way of
	Tally   decision.Tally
	Asked   int // those of them that ask for a decision
}

// Kind is how many findings are of one record type and status.
type Kind struct {
	Type   string
	Status match.Status
	N      int
}

// Sorts are the orders in which groups can be listed.
func Sorts() []string { return []string{"status", "type", "open", "size", "address"} }

// Groups lists the groups that have a finding that is meant. Sort is one of Sorts, "" for
// the first.
func Groups(ctx context.Context, of *session.Session, d *docket.Docket, w Which, sort string) ([]Grouped, error) {
	if sort != "" && !slices.Contains(Sorts(), sort) {
		return nil, session.Usage("--sort %q is not known%s", sort, yamldoc.Nearest(sort, Sorts()))
	}
	all, err := d.Found.Groups(ctx)
	if err != nil {
		return nil, err
	}
	s, err := choose(ctx, of, d, w)
	if err != nil {
		return nil, err
	}
	found := make([]Grouped, len(all))
	for r, err := range s.each(ctx, byKey) {
		if err != nil {
			return nil, err
		}
		g := &found[r.Group-1]
		g.take(r)
	}
	var out []Grouped
	for i, g := range found {
		if g.Shown > 0 {
			g.Group = all[i]
			out = append(out, g)
		}
	}
	ranks := map[match.Status]int{}
	for i, status := range match.Statuses() {
		ranks[status] = i
	}
	slices.SortStableFunc(out, func(a, b Grouped) int {
		switch sort {
		case "type":
			return 0
		case "open":
			return cmp.Compare(b.Tally.Open, a.Tally.Open)
		case "size":
			return cmp.Compare(b.Shown, a.Shown)
		case "address":
			return cmp.Compare(a.Address, b.Address)
		}
		return cmp.Compare(ranks[a.Worst], ranks[b.Worst])
	})
	return out, nil
}

func (g *Grouped) take(r Reviewed) {
	statuses := match.Statuses()
	if g.Shown == 0 || slices.Index(statuses, r.Status) < slices.Index(statuses, g.Worst) {
		g.Worst = r.Status
	}
	g.Shown++
	g.Tally.Count(r.Of())
	if r.Asks() {
		g.Asked++
	}
	if r.Blocked() {
		g.Blocked++
	}
	at := slices.IndexFunc(g.Counts, func(k Kind) bool { return k.Type == r.Type && k.Status == r.Status })
	if at < 0 {
		at = len(g.Counts)
		g.Counts = append(g.Counts, Kind{Type: r.Type, Status: r.Status})
	}
	g.Counts[at].N++
}
