package importing

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// readBatch is how many records are read and looked up at a time.
const readBatch = 500

// Backup keeps before-images; they are durable when it returns.
type Backup func([]docket.Image) error

// StandAgain reads the target again and gives what is still to be written, in order. The
// rest grows by what moved since the match, and by what depends on it.
func StandAgain(ctx context.Context, s *session.Session, r Ready, target environment.Reader, rest Rest, keep Backup) ([]sequence.Write, Rest, error) {
	rest = rest.and(r.unallowed(rest))
	moved, err := readAgain(ctx, s, r, target, rest, keep)
	if err != nil {
		return nil, rest, err
	}
	if err := r.Docket.ImagesKept(ctx, r.Run); err != nil {
		return nil, rest, err
	}
	rest = rest.and(moved)
	gone, err := checkReferences(ctx, r, target, rest)
	if err != nil {
		return nil, rest, err
	}
	rest = rest.and(gone)
	rest = rest.and(dependents(r, rest))
	writes, err := order(r, rest)
	return writes, rest, err
}

// pending gives the approvals that are still to be written, by type and in batches.
func (r Ready) pending(rest Rest, give func(typ docket.Type, batch []*standing.Approval) error) error {
	var batch []*standing.Approval
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		t, _ := r.Docket.Type(batch[0].Type)
		err := give(t, batch)
		batch = nil
		return err
	}
	for _, a := range r.Standing.Approved {
		if rest.skips(a) {
			continue
		}
		if len(batch) == readBatch || len(batch) > 0 && batch[0].Type != a.Type {
			if err := flush(); err != nil {
				return err
			}
		}
		batch = append(batch, a)
	}
	return flush()
}

// lines reads what the docket holds of some approvals.
func (r Ready) lines(ctx context.Context, batch []*standing.Approval) (map[int64]docket.Finding, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.ID
	}
	return r.Docket.Sides(ctx, ids)
}

// source gives the record of the source that a finding has.
func (r Ready) source(t docket.Type, line docket.Finding) (record.Record, error) {
	return record.ParseLine([]byte(line.Source), t.Name, t.Fields, r.Model.Shapes)
}

// now is an approval with its record as it is in the target now.
type now struct {
	*standing.Approval
	line   docket.Finding
	source record.Record
	here   []record.Record // one, where all is well
}

// lot is some approvals of one type, with their records as they are in the target now.
type lot struct {
	typ    docket.Type
	batch  []*standing.Approval
	list   []now
	keys   []record.Key
	images map[int64]docket.Image // what they were before the run, where that is asked for
}

// lots reads the approvals that are still to be written, each lot while the one before is
// looked at.
func (r Ready) lots(ctx context.Context, target environment.Reader, rest Rest, images bool) iter.Seq2[lot, error] {
	known := ahead(func(yield func(lot, error) bool) {
		stop := errors.New("stopped")
		err := r.pending(rest, func(t docket.Type, batch []*standing.Approval) error {
			l := lot{typ: t, batch: batch}
			var err error
			if l.list, l.keys, err = r.known(ctx, t, batch); err == nil && images {
				l.images, err = r.images(ctx, batch)
			}
			if err == nil && !yield(l, nil) {
				return stop
			}
			return err
		})
		if err != nil && !errors.Is(err, stop) {
			yield(lot{}, err)
		}
	})
	return ahead(func(yield func(lot, error) bool) {
		for l, err := range known {
			if err == nil {
				err = r.meet(ctx, target, l.typ, l.list, l.keys)
			}
			if !yield(l, err) || err != nil {
				return
			}
		}
	})
}

// current reads the records of some approvals as they are in the target now.
func (r Ready) current(ctx context.Context, target environment.Reader, t docket.Type, batch []*standing.Approval) ([]now, error) {
	list, keys, err := r.known(ctx, t, batch)
	if err != nil {
		return nil, err
	}
	return list, r.meet(ctx, target, t, list, keys)
}

// known gives what the docket has of some approvals, and their keys.
func (r Ready) known(ctx context.Context, t docket.Type, batch []*standing.Approval) ([]now, []record.Key, error) {
	lines, err := r.lines(ctx, batch)
	if err != nil {
		return nil, nil, err
	}
	out := make([]now, len(batch))
	keys := make([]record.Key, len(batch))
	for i, a := range batch {
		out[i] = now{Approval: a, line: lines[a.ID]}
		if !a.Removes {
			if out[i].source, err = r.source(t, lines[a.ID]); err != nil {
				return nil, nil, err
			}
		}
		if keys[i], err = r.Model.Shapes.ParseKey([]byte(lines[a.ID].Key), t.Name); err != nil {
			return nil, nil, err
		}
	}
	return out, keys, nil
}

// meet adds the records of the target with these keys.
func (r Ready) meet(ctx context.Context, target environment.Reader, t docket.Type, list []now, keys []record.Key) error {
	here := map[string][]record.Record{}
	for rec, err := range target.Read(ctx, r.Model, environment.Reading{Type: t.Name, Fields: t.Fields, Keys: keys, Beside: r.Beside[t.Name], Forms: true, Sums: true}) {
		if err != nil {
			return err
		}
		here[rec.Key.Order()] = append(here[rec.Key.Order()], rec)
	}
	for i := range list {
		list[i].here = here[list[i].line.Order]
	}
	return nil
}

// readAgain compares the touched records with what they were when matched, finds those
// that moved, and keeps the before-images of the others.
func readAgain(ctx context.Context, s *session.Session, r Ready, target environment.Reader, rest Rest, keep Backup) (Rest, error) {
	s.Progress.Start("reading the target again", len(r.Standing.Approved)-len(rest.left))
	defer s.Progress.Done()
	found := newRest()
	target = takingTurns(target)
	for l, err := range r.lots(ctx, target, rest, false) {
		if err != nil {
			return found, err
		}
		images, attached, err := r.before(ctx, l, found)
		if err != nil {
			return found, err
		}
		s.Progress.Add(len(l.batch))
		if err := keep(images); err != nil {
			return found, err
		}
		if err := r.keepAttachments(ctx, target, l.typ, attached); err != nil {
			return found, err
		}
	}
	return found, nil
}

// before gives the before-images of a lot, and the keys of the records of which attachments are
// going to be written over; found grows by what moved, or is already as approved.
func (r Ready) before(ctx context.Context, l lot, found Rest) (images []docket.Image, attached []record.Key, err error) {
	t := l.typ
	backs, err := r.backs(ctx, l.batch)
	if err != nil {
		return nil, nil, err
	}
	for _, n := range l.list {
		moved, already, err := r.compare(n, t)
		if err == nil && moved == "" && !already && n.Removes && !r.asMade(n, t, backs[n.ID]) {
			moved = fmt.Sprintf("it is no longer what the import of docket %d wrote", r.Docket.Header.Restores)
		}
		switch {
		case err != nil:
			return nil, nil, err
		case already:
			found.already[n.ID] = true
		case moved != "":
			found.leave(n.Approval, MovedSinceMatch, fmt.Sprintf("%s was not imported: %s. %s to see it as it is now.", n.Address, moved, r.Docket.Header.Again()))
		case r.turned(n, t, found):
		default:
			image := docket.Image{Finding: n.ID, Writes: r.writes(n, t)}
			if len(n.here) == 1 {
				before := n.here[0]
				before.Key = before.Stands()
				image.Line = string(record.AppendLine(nil, t.Fields, before))
				attached = append(attached, attachments(n, t, image.Writes, before)...)
				image.ID, image.Beside, image.Stored = before.ID, before.Beside, before.Stored
			}
			images = append(images, image)
		}
	}
	return images, attached, nil
}

// attachments gives the key of a record where an attachment of it is going to be written over,
// or removed with it.
func attachments(n now, t docket.Type, writes []string, before record.Record) []record.Key {
	for i, field := range t.Fields {
		if before.Values[i].Kind() == record.Bytes && (n.Removes || slices.Contains(writes, field.Name)) {
			return []record.Key{n.here[0].Key}
		}
	}
	return nil
}

// keepAttachments keeps what records hold that is going to be written over, one after the other:
// they can be large.
func (r Ready) keepAttachments(ctx context.Context, target environment.Reader, t docket.Type, keys []record.Key) error {
	var fields []record.Field
	for _, field := range t.Fields {
		if field.Kind == record.Bytes {
			fields = append(fields, field)
		}
	}
	for _, key := range keys {
		for rec, err := range target.Read(ctx, r.Model, environment.Reading{Type: t.Name, Fields: fields, Keys: []record.Key{key}, Sums: true}) {
			if err == nil {
				err = r.Docket.SaveContents(ctx, rec.Values)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// writes lists the fields that are going to be written of a record.
func (r Ready) writes(n now, t docket.Type) []string {
	out := []string{}
	if n.Removes {
		return out
	}
	for i, field := range t.Fields {
		if n.Writes(field.Name) && !n.source.Values[i].IsAbsent() {
			out = append(out, field.Name)
		}
	}
	if typ, ok := r.Model.Catalog.Type(t.Name); ok && n.Rekeys(r.Model.Catalog) {
		out = append(out, typ.Key...)
	}
	return out
}

// holds reports whether a record of the target has every approved value, or is gone if it was
// to be removed.
func (r Ready) holds(n now, t docket.Type) bool {
	if n.Removes {
		return len(n.here) == 0
	}
	if len(n.here) != 1 || n.Rekeys(r.Model.Catalog) && n.here[0].Was != nil {
		return false
	}
	return !slices.ContainsFunc(match.Compare(t.Fields, n.source.Values, n.here[0].Values, nil), func(d match.Difference) bool { return n.Writes(t.Fields[d.Field].Name) })
}

// compare says how a record moved since it was matched, or that it already holds the
// approved values.
func (r Ready) compare(n now, t docket.Type) (moved string, already bool, err error) {
	target := r.Model.Environment
	switch {
	case len(n.here) > 1:
		return fmt.Sprintf("its key now occurs %d times in %s", len(n.here), target), false, nil
	case len(n.here) == 0 && n.Removes:
		return "", true, nil
	case len(n.here) == 0 && n.Status == match.New:
		return "", false, nil
	case len(n.here) == 0:
		return "it is no longer in " + target, false, nil
	case n.Status == match.New && r.holds(n, t):
		return "", true, nil
	case n.Status == match.New:
		return fmt.Sprintf("it was not in %s when it was matched and is there now", target), false, nil
	}
	here := n.here[0]
	if r.asMatched(n, t) {
		return "", false, nil
	}
	was, err := record.ParseLine([]byte(n.line.Target), t.Name, t.Fields, r.Model.Shapes)
	if err != nil {
		return "", false, err
	}
	since := match.Compare(t.Fields, was.Values, here.Values, nil)
	// One that has the source's key by now may be due to an import that was interrupted.
	renamed := here.Stands().Order() != was.Key.Order()
	if len(since) == 0 && !renamed {
		return "", false, nil
	}
	// An import that was interrupted after it was complete leaves exactly this: every
	// difference is an approved field that holds the approved value.
	onlyApproved := !slices.ContainsFunc(since, func(d match.Difference) bool { return !n.Writes(t.Fields[d.Field].Name) })
	if r.holds(n, t) && onlyApproved && (n.Rekeys(r.Model.Catalog) || !renamed) {
		return "", true, nil
	}
	var what []string
	if renamed {
		what = append(what, "it is "+r.Model.Catalog.Address(t.Name, here.Stands())+" by now")
	}
	for _, d := range since {
		field := t.Fields[d.Field]
		what = append(what, fmt.Sprintf("%s was %s and is %s", field.Name, show.Readable(show.Show(r.Model.Catalog, field, d.Source)), show.Readable(show.Show(r.Model.Catalog, field, d.Target))))
	}
	return fmt.Sprintf("it changed in %s since it was matched (%s)", target, strings.Join(what, "; ")), false, nil
}

// asMatched reports whether a record is, byte for byte, what it was when it was matched. Where it
// is not, its values can still be the same.
func (r Ready) asMatched(n now, t docket.Type) bool {
	here := n.here[0]
	here.Key = here.Stands()
	return string(record.AppendLine(make([]byte, 0, len(n.line.Target)+1), t.Fields, here)) == n.line.Target
}

// checkReferences finds records that refer to something the target had when it was
// matched and no longer has.
func checkReferences(ctx context.Context, r Ready, target environment.Reader, rest Rest) (Rest, error) {
	pending := map[int64]*standing.Approval{}
	for _, a := range r.Standing.Approved {
		if !rest.skips(a) {
			pending[a.ID] = a
		}
	}
	found := newRest()
	byType := map[string][]docket.Need{}
	look := func(typ string) error {
		needs := byType[typ]
		delete(byType, typ)
		keys := make([]record.Key, len(needs))
		for i, n := range needs {
			var err error
			if keys[i], err = r.Model.Shapes.ParseKey([]byte(n.Key), typ); err != nil {
				return err
			}
		}
		counts, err := target.Locate(ctx, r.Model, typ, keys)
		if err != nil {
			return err
		}
		for i, n := range needs {
			a := pending[n.Holder]
			if _, left := found.left[a.ID]; counts[i] != 1 && !left {
				found.leave(a, MovedSinceMatch, fmt.Sprintf("%s was not imported: it refers to %s (field %s), which was in %s when it was matched and is no longer there. %s to see it as it is now.",
					a.Address, n.Address, n.Field, r.Model.Environment, r.Docket.Header.Again()))
			}
		}
		return nil
	}
	for n, err := range r.Docket.Needs(ctx, true) {
		if err != nil {
			return found, err
		}
		a := pending[n.Holder]
		if a == nil || n.InTarget != 1 || !a.Writes(n.Field) {
			continue
		}
		byType[n.Type] = append(byType[n.Type], n)
		if len(byType[n.Type]) == readBatch {
			if err := look(n.Type); err != nil {
				return found, err
			}
		}
	}
	for typ := range byType {
		if err := look(typ); err != nil {
			return found, err
		}
	}
	return found, nil
}

// dependents finds what depends on a record that is left out.
func dependents(r Ready, rest Rest) Rest {
	byID := map[int64]*standing.Approval{}
	var candidates []check.Candidate
	for _, a := range r.Standing.Approved {
		byID[a.ID] = a
		if rest.already[a.ID] {
			continue
		}
		c := check.Candidate{ID: a.ID, Blocked: rest.left[a.ID].Why}
		for _, n := range a.Needs {
			if n.Finding != 0 && !rest.already[n.Finding] {
				c.Needs = append(c.Needs, n.Finding)
			}
		}
		for _, id := range a.After {
			if !rest.already[id] {
				c.Needs = append(c.Needs, id)
			}
		}
		candidates = append(candidates, c)
	}
	found := newRest()
	for id, because := range check.Standing(candidates) {
		a, needed := byID[id], byID[because]
		if _, left := rest.left[id]; !left && needed != nil {
			found.leave(a, DependsOnLeft, fmt.Sprintf("%s was not imported: it needs %s, which was left out itself.", a.Address, needed.Address))
		}
	}
	return found
}

// movedSince reads the target once more and names the records that somebody else changed while
// an import was at work.
func (r Ready) movedSince(ctx context.Context, s *session.Session, rest Rest) []LeftOut {
	env, err := s.Open(ctx, r.Model.Environment, true)
	if err != nil {
		return nil
	}
	defer env.Close()
	names, err := sides.PairsOf(r.Docket) // as they were, not as they are now
	if err != nil {
		return nil
	}
	var out []LeftOut
	for l, err := range r.lots(ctx, sides.Renamed(env, names), rest, false) {
		if err != nil {
			break
		}
		for _, n := range l.list {
			if moved, _, err := r.compare(n, l.typ); err == nil && moved != "" && len(out) < maxFailures {
				out = append(out, LeftOut{Address: n.Address, Why: MovedSinceMatch, Message: fmt.Sprintf("%s: %s, while the import was at work. %s to see it as it is now.", n.Address, moved, r.Docket.Header.Again())})
			}
		}
	}
	return out
}
