package mirror

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// work is a unit of work that is none: each change is lasting once it was sent.
type work struct {
	inner environment.Work
	*mirror
	done    bool
	pending []sent
	fresh   map[string]bool // type and key of new records that wait to be sent
}

// sent is a change with its edit.
type sent struct {
	change int // which one, -1 for what is filled in afterwards
	of     environment.Change
	edit   Edit
}

// Begin forgets what was held, so that all is read anew.
func (e *mirror) Begin(ctx context.Context, places []string) (environment.Work, error) {
	if err := e.forget(ctx); err != nil {
		return nil, err
	}
	inner, err := e.Environment.Begin(ctx, places)
	if err != nil {
		return nil, err
	}
	e.working = true
	return &work{inner: inner, mirror: e, fresh: map[string]bool{}}, nil
}

// Transaction says that there is none.
func (w *work) Transaction() bool { return false }

// Together is how many changes are sent in one request.
func (w *work) Together(ctx context.Context) (int, error) { return w.service.Together(ctx) }

// Read reads what is there by now.
func (w *work) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	return w.reading(ctx, w.inner, m, r)
}

// Locate looks for what is there by now.
func (w *work) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	if err := w.needKeys(ctx, m, typ, keys, true); err != nil {
		return nil, err
	}
	return w.inner.Locate(ctx, m, typ, keys)
}

// Write sends changes in their order. What one of them needs to know of a new record is known
// once that was sent, so it is sent before.
func (w *work) Write(ctx context.Context, m *environment.Model, changes []environment.Change) ([]error, error) {
	refused := make([]error, len(changes))
	if err := w.before(ctx, m, changes); err != nil {
		return nil, err
	}
	if err := w.taken(ctx, m, changes, refused); err != nil {
		return nil, err
	}
	for i, c := range changes {
		if refused[i] != nil {
			continue
		}
		if w.waitsFor(c) || c.Remove || c.Was != nil {
			if err := w.flush(ctx, m, refused); err != nil {
				return refused, err
			}
		}
		said, err := w.inner.Write(ctx, m, []environment.Change{c})
		if err != nil {
			return refused, err
		}
		if refused[i] = said[0]; refused[i] != nil {
			if err := w.clear(ctx); err != nil {
				return refused, err
			}
			continue
		}
		if err := w.collect(ctx, m, i, c); err != nil {
			return refused, err
		}
		w.fresh[c.Type+"\x00"+c.Key.Order()] = true
	}
	return refused, w.flush(ctx, m, refused)
}

// taken refuses what was to be added and is there already. The service may refuse it in words
// that leave open whether it was written, and then a record that somebody else made would be
// taken for ours.
func (w *work) taken(ctx context.Context, m *environment.Model, changes []environment.Change, refused []error) error {
	keys, at := map[string][]record.Key{}, map[string][]int{}
	for i, c := range changes {
		if c.Insert {
			keys[c.Type], at[c.Type] = append(keys[c.Type], c.Key), append(at[c.Type], i)
		}
	}
	for typ, some := range keys {
		there, err := w.inner.Locate(ctx, m, typ, some)
		if err != nil {
			return err
		}
		for i, n := range there {
			if n > 0 {
				refused[at[typ][i]] = &environment.RecordError{Environment: w.name, Address: m.Catalog.Address(typ, some[i]),
					Cause: errors.New("it is there already")}
			}
		}
	}
	return nil
}

// before fetches what the changes are about and refer to.
func (w *work) before(ctx context.Context, m *environment.Model, changes []environment.Change) error {
	keys, unsure := map[string][]record.Key{}, map[string][]record.Key{}
	note := func(values []record.Value) {
		for _, v := range values {
			for _, ref := range v.References() {
				keys[ref.Refers()] = append(keys[ref.Refers()], ref.Key())
			}
		}
	}
	removes := map[string][]record.Key{}
	for _, c := range changes {
		of := append([]record.Key{c.Key}, wasOf(c)...)
		set, _ := m.Catalog.Type(c.Type)
		if h := w.sets[set.Place(m.Environment)]; h != nil && h.tagged {
			keys[c.Type] = append(keys[c.Type], of...)
		} else {
			unsure[c.Type] = append(unsure[c.Type], of...)
		}
		note(c.Key.Parts())
		note(c.Values)
		if c.Remove {
			removes[c.Type] = append(removes[c.Type], c.Key)
		}
	}
	for _, of := range []struct {
		keys  map[string][]record.Key
		fresh bool // without versions what is there by now has to be looked at
	}{{unsure, true}, {keys, false}} {
		for _, t := range m.Catalog.Types {
			if len(of.keys[t.Name]) > 0 {
				if err := w.needKeys(ctx, m, t.Name, of.keys[t.Name], of.fresh); err != nil {
					return err
				}
			}
		}
	}
	for _, t := range m.Catalog.Types {
		if len(removes[t.Name]) > 0 {
			if err := w.referrers(ctx, m, t.Name, removes[t.Name]); err != nil {
				return err
			}
		}
	}
	return nil
}

func wasOf(c environment.Change) []record.Key {
	if c.Was == nil {
		return nil
	}
	return []record.Key{*c.Was}
}

// waitsFor reports whether a change is about a record that waits to be sent, or refers to one.
func (w *work) waitsFor(c environment.Change) bool {
	if w.fresh[c.Type+"\x00"+c.Key.Order()] {
		return true
	}
	for _, v := range slices.Concat(c.Key.Parts(), c.Values) {
		for _, ref := range v.References() {
			if w.fresh[ref.Refers()+"\x00"+ref.Key().Order()] {
				return true
			}
		}
	}
	return false
}

// clear forgets what was noted of a change.
func (w *work) clear(ctx context.Context) error { return w.exec(ctx, `DELETE FROM "anagram edits"`) }

// collect makes edits of what a change did to the temporary database.
func (w *work) collect(ctx context.Context, m *environment.Model, change int, c environment.Change) error {
	type noted struct{ place, row, kind, column string }
	var notes []noted
	if err := w.each(ctx, 4, func(row []any) error {
		notes = append(notes, noted{engine.StoredText(row[0]), engine.StoredText(row[1]), engine.StoredText(row[2]),
			engine.StoredText(row[3])})
		return nil
	}, `SELECT place, row, kind, col FROM "anagram edits" ORDER BY n`); err != nil {
		return err
	}
	var edits []sent
	at := map[[2]string]int{}
	for _, n := range notes {
		id := [2]string{n.place, n.row}
		i, known := at[id]
		if !known {
			i = len(edits)
			at[id] = i
			edits = append(edits, sent{change: change, of: c, edit: Edit{Kind: Change, Set: n.place, ID: uuid.NewString(),
				Values: map[string]any{}}})
		}
		one := &edits[i].edit
		switch n.kind {
		case "add":
			one.Kind = Add
		case "remove":
			one.Kind, one.Ref, one.Tag = Remove, n.row, n.column
			continue
		}
		if err := w.take(ctx, one, n.row, n.column); err != nil {
			return err
		}
	}
	for i := range edits {
		one := &edits[i].edit
		if m == nil {
			continue
		}
		if t, ok := m.Catalog.Type(c.Type); ok {
			for column := range one.Values {
				if t.IsStamp(column) || slices.Contains(t.Derived, column) {
					one.Loose = append(one.Loose, column)
				}
			}
		}
		if one.Kind == Add {
			w.forNew(m, c, one)
		}
	}
	w.pending = append(w.pending, edits...)
	return w.clear(ctx)
}

// take gives an edit the values of its row: of a new one all that there are, else one column.
func (w *work) take(ctx context.Context, one *Edit, row, column string) error {
	columns := []string{column}
	if one.Kind == Add {
		columns = nil
		for _, c := range w.about.Places[one.Set].Columns {
			columns = append(columns, c.Name)
		}
	}
	query := "SELECT " + quote(refColumn) + ", " + quote(tagColumn)
	for _, name := range columns {
		query += ", +" + quote(name)
	}
	return w.each(ctx, 2+len(columns), func(values []any) error {
		one.Ref, one.Tag = engine.StoredText(values[0]), engine.StoredText(values[1])
		for i, name := range columns {
			if values[2+i] != nil || one.Kind != Add {
				one.Values[name] = values[2+i]
			}
		}
		return nil
	}, query+" FROM "+quote(one.Set)+" WHERE rowid = CAST(? AS INTEGER)", row)
}

// forNew says which nulls of a new row were approved, and by what it is found again.
func (w *work) forNew(m *environment.Model, c environment.Change, one *Edit) {
	t, _ := m.Catalog.Type(c.Type)
	p := w.about.Places[one.Set]
	for i, field := range c.Fields {
		for _, column := range t.Stored(field.Name) {
			if of, there := p.Column(column); there && !of.Derived && i < len(c.Values) && c.Values[i].IsNull() &&
				one.Values[column] == nil {
				one.Values[column] = nil
			}
		}
	}
	for _, field := range t.Key {
		one.Key = append(one.Key, t.Stored(field)...)
	}
}

// flush sends what waits.
func (w *work) flush(ctx context.Context, m *environment.Model, refused []error) error {
	pending := w.pending
	w.pending, w.fresh = nil, map[string]bool{}
	if len(pending) == 0 {
		return nil
	}
	edits := make([]Edit, len(pending))
	for i, p := range pending {
		edits[i] = p.edit
	}
	outcomes, err := w.deliver(ctx, edits)
	if err != nil {
		return err
	}
	untold := map[string][]string{}    // by set: rows of which the service did not say how they are now
	added := map[string][]record.Key{} // by type, the same for new ones
	for i, p := range pending {
		o := outcomes[i]
		fail := error(nil)
		switch {
		case o.Moved:
			fail = environment.ErrMoved
		case o.Refused != nil:
			fail = o.Refused
		}
		if fail != nil && p.change >= 0 && refused[p.change] == nil {
			refused[p.change] = &environment.RecordError{Environment: w.name, Address: m.Catalog.Address(p.of.Type, p.of.Key), Cause: fail}
		}
		told, err := w.became(ctx, p.edit, o)
		if err != nil {
			return err
		}
		if !told {
			untold[p.edit.Set] = append(untold[p.edit.Set], p.edit.Ref)
		}
		if p.edit.Kind == Add && o.Row == nil && fail == nil {
			added[p.of.Type] = append(added[p.of.Type], p.of.Key)
		}
	}
	for typ, keys := range added { // what comes next may refer to them
		if err := w.needKeys(ctx, m, typ, keys, true); err != nil {
			return err
		}
	}
	return w.again(ctx, untold)
}

// again fetches rows anew.
func (w *work) again(ctx context.Context, refs map[string][]string) error {
	for set, some := range refs {
		if err := w.fetch(ctx, Query{Set: set, Columns: w.sets[set].columns, Refs: some}, false); err != nil {
			return err
		}
	}
	return nil
}

// became makes the temporary database say what the service does. A row of which the service
// does not tell how it is now is to be fetched.
func (w *work) became(ctx context.Context, edit Edit, o Outcome) (told bool, err error) {
	h := w.sets[edit.Set]
	told = o.Row != nil || edit.Kind == Add || edit.Kind == Remove && o.Refused == nil && !o.Moved
	return told, w.loading(ctx, func() error {
		drop := "DELETE FROM " + quote(edit.Set) + " WHERE " + quote(refColumn) + " = ?"
		args := []any{edit.Ref}
		if edit.Kind == Add { // the one without a reference is the one that waited
			set := quote(edit.Set)
			drop, args = "DELETE FROM "+set+" WHERE "+quote(refColumn)+" IS NULL AND rowid IN (SELECT rowid FROM "+set+" WHERE true", nil
			for _, column := range edit.Key {
				drop, args = drop+" AND "+quote(column)+" IS ?", append(args, edit.Values[column])
			}
			drop += " LIMIT 1)"
		}
		if err := w.exec(ctx, drop, args...); err != nil {
			return err
		}
		switch {
		case o.Row != nil:
			return w.keep(ctx, edit.Set, *o.Row)
		case edit.Kind == Remove && o.Refused == nil && !o.Moved:
			return nil
		}
		// What is there now is fetched when it is asked for.
		h.whole, h.by = false, map[string]map[string]bool{}
		return nil
	})
}

// Settle sends the stamps that did not move by themselves.
func (w *work) Settle(ctx context.Context) error {
	if err := w.inner.Settle(ctx); err != nil {
		return err
	}
	var edits []sent
	if err := w.collectStamps(ctx, &edits); err != nil || len(edits) == 0 {
		return err
	}
	all := make([]Edit, len(edits))
	for i, of := range edits {
		all[i] = of.edit
	}
	outcomes, err := w.deliver(ctx, all)
	if err != nil {
		return err
	}
	untold := map[string][]string{}
	for i, o := range outcomes {
		told, err := w.became(ctx, all[i], o)
		if err != nil {
			return err
		}
		if !told {
			untold[all[i].Set] = append(untold[all[i].Set], all[i].Ref)
		}
		if o.Refused != nil && !errors.Is(o.Refused, environment.ErrMoved) {
			return &environment.Error{Environment: w.name, Message: fmt.Sprintf("the stamps of a record of %s cannot be set: %v.",
				all[i].Set, o.Refused), Mend: "Say stamp: {write: never} of the record type in the catalog."}
		}
	}
	return w.again(ctx, untold)
}

func (w *work) collectStamps(ctx context.Context, edits *[]sent) error {
	before := w.pending
	w.pending = nil
	err := w.collect(ctx, nil, -1, environment.Change{})
	*edits, w.pending = w.pending, before
	return err
}

// Commit has nothing to do; what is held is forgotten.
func (w *work) Commit(ctx context.Context) error {
	if w.done {
		return nil
	}
	w.done = true
	w.working = false
	return w.inner.Commit(ctx)
}

// Rollback can take nothing back at the service.
func (w *work) Rollback() error {
	if w.done {
		return nil
	}
	w.done = true
	w.working = false
	// The temporary database is not what was to be taken back: its tables stay.
	ctx := context.Background()
	if err := w.inner.Commit(ctx); err != nil {
		return errors.Join(err, w.inner.Rollback())
	}
	if len(w.sets) > 0 {
		if err := w.clear(ctx); err != nil {
			return err
		}
	}
	return w.forget(ctx)
}
