package prepare

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/outside"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// What a place takes is asked again before it is written to, by the functions that were asked at
// the match: rights, columns and rules may be others by now. A record that they stop is left out.

// unallowed finds the approvals for which the account has no right any more. That is asked before
// anything is read: some engines let only those lock a record who may change it.
func (r Ready) unallowed(rest Rest) Rest {
	found := NewRest()
	for _, a := range r.Standing.Approved {
		w, known := r.wouldBe(a, a.Status == match.New)
		if !known || rest.Skips(a) {
			continue
		}
		if c, bad := w.Rights(); bad {
			r.stop(a, c, found)
			continue
		}
		column, sure, bad := w.Type.Unsigned(w.Place, r.Model.Environment, w.Type.Signature(r.Who, r.ids), w.Adds)
		if r.signs && bad && sure && !a.Removes {
			r.stop(a, check.Unsigned(a.Address, w.Type, column, r.Model.Environment, r.Who, true), found)
		}
	}
	return found
}

// wouldBe is an approval as it would be written, for what its place says of it.
func (r Ready) wouldBe(a *standing.Approval, adds bool) (check.Written, bool) {
	typ, ok := r.Model.Catalog.Type(a.Type)
	if !ok || r.Places == nil {
		return check.Written{}, false
	}
	return check.Written{Address: a.Address, Target: r.Docket.Header.Target, Type: typ,
		Place: r.Places[typ.Place(r.Model.Environment)], Adds: adds, Removes: a.Removes}, true
}

// stop leaves an approval out for a check.
func (r Ready) stop(a *standing.Approval, c check.Check, found Rest) {
	if r.Docket.Header.Restores != 0 {
		c = check.TakingBack(c, r.Docket.Header.AgainInside())
	}
	found.Leave(a, string(c.Code), c.Message+" "+c.Mend)
}

// asNow gathers the facts about an approval as its record and its place are now.
func (r Ready) asNow(n Now, t docket.Type) (check.Facts, bool) {
	w, known := r.wouldBe(n.Approval, len(n.Here) == 0)
	if !known || n.Removes {
		return check.Facts{}, false
	}
	f := check.Facts{
		Written: w, Found: match.Finding{Key: n.Source.Key, Status: n.Status, Source: &n.Source},
		Source: r.Docket.Header.Source, Fields: t.Fields, Keys: r.Model.Shapes[t.Name], Approved: r.writes(n, t),
	}
	for _, stamp := range w.Type.Stamped(w.Place, r.Model.Environment, w.Type.Signature(r.Who, r.ids)) {
		f.Filled = append(f.Filled, stamp.Name)
	}
	if w.Adds {
		return f, true
	}
	here := n.Here[0]
	f.Found.Target, f.Found.Differences = &here, match.Compare(t.Fields, n.Source.Values, here.Values, nil)
	if here.Was == nil {
		return f, true
	}
	was := here.Was.Parts()
	for i, part := range n.Source.Key.Parts() {
		if !part.Equal(was[i]) {
			f.Found.Differences = append(f.Found.Differences, match.Difference{Field: i, Key: true, Source: part, Target: was[i]})
		}
	}
	return f, true
}

// turned asks again about each approval of a lot that nothing else stops.
func (r Ready) turned(ctx context.Context, l lot, found Rest) error {
	var left []check.Facts
	var whose []*standing.Approval
	for _, n := range l.List {
		if found.Skips(n.Approval) {
			continue
		}
		f, known := r.asNow(n, l.Typ)
		if !known {
			continue
		}
		checks := f.AtImport()
		if at := slices.IndexFunc(checks, func(c check.On) bool { return c.Level == check.Blocker }); at >= 0 {
			r.stop(n.Approval, checks[at].Check, found)
			continue
		}
		left, whose = append(left, f), append(whose, n.Approval)
	}
	if len(left) == 0 || r.Judge == nil {
		return nil
	}
	first := left[0]
	for _, rule := range check.Judged(first.Type, first.Place, first.Keys, first.Fields) {
		if r.triedAtMatch(l.Typ.Name, rule) {
			continue
		}
		if err := r.judged(ctx, rule, left, whose, found); err != nil {
			return err
		}
	}
	return nil
}

// triedAtMatch reports whether the match had every way tried in which fields of a rule may be
// approved.
func (r Ready) triedAtMatch(typ string, rule catalog.Rule) bool {
	return len(rule.Columns) <= check.AllCombined && slices.Contains(r.Docket.Header.Rules[typ], rule.Text)
}

// judged has the target try the values as approved.
func (r Ready) judged(ctx context.Context, rule catalog.Rule, left []check.Facts, whose []*standing.Approval, found Rest) error {
	var tried []check.After
	var rows [][]record.Value
	var at []int // in left
	for i, f := range left {
		if after := f.After(rule.Columns)[0]; f.Tells(after) && !found.Skips(whose[i]) {
			tried, rows, at = append(tried, after), append(rows, after.Values), append(at, i)
		}
	}
	if len(at) == 0 {
		return nil
	}
	refused, err := r.Judge.Judge(ctx, left[0].Place.Name, rule, rows)
	if err != nil {
		return err
	}
	for n, i := range at {
		if refused[n] {
			r.stop(whose[i], left[i].Broken(rule, tried[n]).Check, found)
		}
	}
	return nil
}

// heldOutside asks again whether the target has, out of its type's scope, what is about to be made.
func heldOutside(ctx context.Context, r Ready, target environment.Reader, l lot, found Rest) error {
	t, ok := r.Model.Catalog.Type(l.Typ.Name)
	if !ok {
		return nil
	}
	finder, err := outside.For(r.Model.Catalog, t, r.Places[t.Place(r.Model.Environment)], r.Model.Environment)
	if finder == nil || err != nil {
		return err
	}
	var keys []record.Key
	by := map[string]Now{}
	for _, n := range l.List {
		if len(n.Here) == 0 && !n.Removes && !found.Skips(n.Approval) {
			keys, by[n.Source.Key.Order()] = append(keys, n.Source.Key), n
		}
	}
	held, err := finder.Held(ctx, target, r.Model, keys, func(key record.Key) string { return by[key.Order()].Address })
	for order, c := range held {
		r.stop(by[order].Approval, c, found)
	}
	return err
}
