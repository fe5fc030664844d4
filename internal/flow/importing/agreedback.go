package importing

import (
	"context"
	"errors"
	"iter"
	"slices"

	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// What an import taught about agreed values is taken back with it, and taught again when its
// restore is taken back.

// lineage is the dockets from one that restores up to the one whose import all are about.
type lineage struct {
	above []*docket.Docket // the docket that is restored first, the import's last
}

func lineageOf(ctx context.Context, s *session.Session, d *docket.Docket) (lineage, error) {
	var out lineage
	for next := d.Header.Restores; next != 0; {
		above, err := register.Open(ctx, s.Workspace, next)
		if err != nil {
			return out, errors.Join(err, out.close())
		}
		out.above = append(out.above, above)
		if above.Header.Restores >= next {
			return out, errors.Join(errors.New("a docket restores a later one"), out.close())
		}
		next = above.Header.Restores
	}
	return out, nil
}

func (l lineage) close() error {
	var errs []error
	for _, d := range l.above {
		errs = append(errs, d.Close())
	}
	return errors.Join(errs...)
}

// root is the docket of the import.
func (l lineage) root() *docket.Docket { return l.above[len(l.above)-1] }

// undone reports whether the import is taken back in the end, or stands again.
func (l lineage) undone() bool { return len(l.above)%2 == 1 }

// origins gives the findings of the root that some approvals are about.
func (l lineage) origins(ctx context.Context, r prepare.Ready, batch []*standing.Approval) (map[int64]int64, error) {
	backs, err := r.Backs(ctx, batch)
	if err != nil {
		return nil, err
	}
	at := map[int64]int64{}
	for id, back := range backs {
		at[id] = back.Finding
	}
	for _, d := range l.above[:len(l.above)-1] {
		ids := make([]int64, 0, len(at))
		for _, id := range at {
			ids = append(ids, id)
		}
		if backs, err = d.Found.Backs(ctx, ids); err != nil {
			return nil, err
		}
		for id, between := range at {
			at[id] = backs[between].Finding
		}
	}
	return at, nil
}

// agreedBefore remembers what the two sides of the import agree on once it is taken back.
func agreedBefore(ctx context.Context, s *session.Session, r prepare.Ready, rest prepare.Rest, stamps *prepare.Stamps) error {
	l, err := lineageOf(ctx, s, r.Docket)
	if err != nil {
		return err
	}
	defer func() { _ = l.close() }()
	root := l.root()
	h := root.Header
	if h.ByHand || h.Then != "" {
		return nil
	}
	names, err := sides.PairsOf(root)
	if err != nil {
		return err
	}
	between := agreed.Between{Source: h.Source, Target: h.Target, Catalog: r.Model.Catalog, Shapes: h.Keys, Names: names,
		Fields: map[string][]record.Field{},
		Zones:  agreed.Zones{Here: prepare.Zone(h.Zones[h.Target]), There: prepare.Zone(h.Zones[h.Source])}}
	for _, t := range root.Types {
		between.Fields[t.Name] = t.Fields
	}
	return agreed.Keep(ctx, s, between, l.written(ctx, r, rest, stamps))
}

func (l lineage) written(ctx context.Context, r prepare.Ready, rest prepare.Rest, stamps *prepare.Stamps) iter.Seq2[agreed.Written, error] {
	rest.Already = map[int64]bool{}
	root := l.root()
	return func(yield func(agreed.Written, error) bool) {
		stop := errors.New("stopped")
		err := r.Pending(rest, func(t docket.Type, batch []*standing.Approval) error {
			origins, err := l.origins(ctx, r, batch)
			if err != nil {
				return err
			}
			ids := make([]int64, 0, len(origins))
			for _, id := range origins {
				ids = append(ids, id)
			}
			lines, err := root.Found.Sides(ctx, ids)
			if err != nil {
				return err
			}
			of, _ := root.Type(t.Name)
			for _, a := range batch {
				line := lines[origins[a.ID]]
				one, ok, err := l.taught(r, a, of, line)
				if err == nil && ok {
					one.Own, err = l.ownWrite(r, of, line, ownWrite(r, a.ID, stamps))
				}
				if err != nil {
					return err
				}
				if ok && !yield(one, nil) {
					return stop
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, stop) {
			yield(agreed.Written{}, err)
		}
	}
}

// ownWrite completes what a restore left with the stamp from before the import, as far as that was
// somebody else's.
func (l lineage) ownWrite(r prepare.Ready, t docket.Type, line docket.Finding, own *known.Own) (*known.Own, error) {
	if own == nil || !l.undone() {
		return own, nil
	}
	if own.Restore = true; line.Target == "" {
		return own, nil
	}
	was, err := record.ParseLine([]byte(line.Target), t.Name, t.Fields, r.Model.Shapes)
	if err != nil {
		return nil, err
	}
	var entry *record.Record
	if line.Agreed != "" {
		before, err := record.ParseLine([]byte(line.Agreed), t.Name, t.Fields, r.Model.Shapes)
		if err != nil {
			return nil, err
		}
		entry = &before
	}
	own.WasAt, own.WasBy = known.Changed(entry, own.In, &was)
	return own, nil
}

// stands gives the key on which both sides of the import agree by now.
func (l lineage) stands(r prepare.Ready, a *standing.Approval, t docket.Type, line docket.Finding, source record.Key) (record.Key, error) {
	if line.Target == "" {
		return source, nil
	}
	was, err := record.ParseLine([]byte(line.Target), t.Name, t.Fields, r.Model.Shapes)
	if err != nil {
		return source, err
	}
	if rekeyed := was.Key.Order() != source.Order(); rekeyed && l.undone() == a.Rekeys(r.Model.Catalog) {
		return was.Key, nil
	}
	return source, nil
}

// taught gives what both sides of the import agree on about a record by now; ok is false where
// that is what it was.
func (l lineage) taught(r prepare.Ready, a *standing.Approval, t docket.Type, line docket.Finding) (out agreed.Written, ok bool,
	err error) {
	if line.Source == "" || a.Removes && !l.undone() || a.Status == match.New && l.undone() {
		return out, false, nil
	}
	source, err := record.ParseLine([]byte(line.Source), t.Name, t.Fields, r.Model.Shapes)
	if err != nil {
		return out, false, err
	}
	before := record.Record{Values: make([]record.Value, len(t.Fields))}
	for i := range before.Values {
		before.Values[i] = record.AbsentValue()
	}
	if line.Agreed != "" {
		if before, err = record.ParseLine([]byte(line.Agreed), t.Name, t.Fields, r.Model.Shapes); err != nil {
			return out, false, err
		}
	}
	out = agreed.Written{Type: t.Name, Record: record.Record{Key: source.Key, Values: make([]record.Value, len(t.Fields))}}
	if out.Stands, err = l.stands(r, a, t, line, source.Key); err != nil {
		return out, false, err
	}
	out.Gone = a.Removes && line.Agreed == "" || l.undone() && slices.Contains(line.Reasons, match.CreatedOnBoth)
	whole := a.Removes || a.Status == match.New
	for i, field := range t.Fields {
		out.Record.Values[i] = record.AbsentValue()
		switch {
		case !whole && !a.Writes(field.Name):
		case !l.undone():
			out.Record.Values[i] = source.Values[i]
		case before.Values[i].IsAbsent():
			out.Forget = append(out.Forget, field.Name)
		default:
			out.Record.Values[i] = before.Values[i]
		}
	}
	slices.Sort(out.Forget)
	return out, true, nil
}
