package prepare

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// readAgain compares the touched records with what they were when matched, finds those
// that moved, and keeps the before-images of the others.
func readAgain(ctx context.Context, s *session.Session, r Ready, target environment.Reader, rest Rest, keep Backup) (Rest, error) {
	s.Progress.Start("reading the target again", len(r.Standing.Approved)-len(rest.Left))
	defer s.Progress.Done()
	found := NewRest()
	turns := TakingTurns(target, r.Judge)
	if target = turns; r.Judge != nil {
		r.Judge = turns
	}
	gone := map[string]removals{}
	for l, err := range r.Lots(ctx, target, rest, false) {
		if err != nil {
			return found, err
		}
		images, attached, err := r.before(ctx, target, l, found)
		if err != nil {
			return found, err
		}
		s.Progress.Add(len(l.Batch))
		for _, n := range l.List {
			if n.Removes && len(n.Here) == 1 && !found.Skips(n.Approval) {
				if gone[n.Type] == nil {
					gone[n.Type] = removals{}
				}
				gone[n.Type][n.Here[0].Key.Order()] = n
			}
		}
		if err := keep(images); err != nil {
			return found, err
		}
		if err := r.keepAttachments(ctx, target, l.Typ, attached); err != nil {
			return found, err
		}
	}
	return found, stillReferred(ctx, r, target, gone, rest, found)
}

// before gives the before-images of a lot, and the keys of the records of which attachments are
// going to be written over; found grows by what moved, or is already as approved.
func (r Ready) before(ctx context.Context, target environment.Reader, l lot, found Rest) (images []run.Image,
	attached []record.Key, err error) {
	t := l.Typ
	backs, err := r.Backs(ctx, l.Batch)
	if err != nil {
		return nil, nil, err
	}
	for _, n := range l.List {
		moved, already, err := r.Compare(n, t)
		if err == nil && moved == "" && !already && n.Removes && !r.asMade(n, t, backs[n.ID]) {
			moved = fmt.Sprintf("it is no longer what the import of docket %d wrote", r.Docket.Header.Restores)
		}
		switch {
		case err != nil:
			return nil, nil, err
		case already:
			found.Already[n.ID] = true
		case r.isUsed(n.Approval):
			r.stop(n.Approval, check.Used(n.Address, r.Docket.Header.Number), found)
		case moved != "":
			found.Leave(n.Approval, MovedSinceMatch, fmt.Sprintf("%s was not imported: %s. %s to see it as it is now.", n.Address,
				moved, r.Docket.Header.Again()))
		}
	}
	if err := r.turned(ctx, l, found); err != nil {
		return nil, nil, err
	}
	if err := heldOutside(ctx, r, target, l, found); err != nil {
		return nil, nil, err
	}
	for _, n := range l.List {
		if found.Skips(n.Approval) {
			continue
		}
		image := run.Image{Finding: n.ID, Writes: r.writes(n, t)}
		if len(n.Here) == 1 {
			before := n.Here[0]
			before.Key = before.Stands()
			image.Line = string(record.AppendLine(nil, t.Fields, before))
			attached = append(attached, attachments(n, t, image.Writes, before)...)
			image.ID, image.Kept = before.ID, before.Beside()
		}
		images = append(images, image)
	}
	return images, attached, nil
}

// attachments gives the key of a record where an attachment of it is going to be written over,
// or removed with it.
func attachments(n Now, t docket.Type, writes []string, before record.Record) []record.Key {
	for i, field := range t.Fields {
		if before.Values[i].Kind() == record.Bytes && (n.Removes || slices.Contains(writes, field.Name)) {
			return []record.Key{n.Here[0].Key}
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
		for rec, err := range target.Read(ctx, r.Model, environment.Reading{Type: t.Name, Fields: fields, Keys: []record.Key{key},
			Sums: true}) {
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
func (r Ready) writes(n Now, t docket.Type) []string {
	out := []string{}
	if n.Removes {
		return out
	}
	for i, field := range t.Fields {
		if n.Writes(field.Name) && !n.Source.Values[i].IsAbsent() {
			out = append(out, field.Name)
		}
	}
	if typ, ok := r.Model.Catalog.Type(t.Name); ok && n.Rekeys(r.Model.Catalog) {
		out = append(out, typ.Key...)
	}
	return out
}

// Holds reports whether a record of the target has every approved value, or is gone if it was
// to be removed.
func (r Ready) Holds(n Now, t docket.Type) bool {
	if n.Removes {
		return len(n.Here) == 0
	}
	if len(n.Here) != 1 || n.Rekeys(r.Model.Catalog) && n.Here[0].Was != nil {
		return false
	}
	return !slices.ContainsFunc(match.Compare(t.Fields, n.Source.Values, n.Here[0].Values, nil),
		func(d match.Difference) bool { return n.Writes(t.Fields[d.Field].Name) })
}

// Compare says how a record moved since it was matched, or that it already holds the
// approved values.
func (r Ready) Compare(n Now, t docket.Type) (moved string, already bool, err error) {
	target := r.Model.Environment
	switch {
	case len(n.Here) > 1:
		return fmt.Sprintf("its key now occurs %d times in %s", len(n.Here), target), false, nil
	case len(n.Here) == 0 && n.Removes:
		return "", true, nil
	case len(n.Here) == 0 && n.Status == match.New:
		return "", false, nil
	case len(n.Here) == 0:
		return "it is no longer in " + target, false, nil
	case n.Status == match.New && r.Holds(n, t):
		return "", true, nil
	case n.Status == match.New:
		return fmt.Sprintf("it was not in %s when it was matched and is there now", target), false, nil
	}
	here := n.Here[0]
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
	if r.Holds(n, t) && onlyApproved && (n.Rekeys(r.Model.Catalog) || !renamed) {
		return "", true, nil
	}
	var what []string
	if renamed {
		what = append(what, "it is "+r.Model.Catalog.Address(t.Name, here.Stands())+" by now")
	}
	for _, d := range since {
		field := t.Fields[d.Field]
		what = append(what, fmt.Sprintf("%s was %s and is %s", field.Name, show.Readable(show.Show(r.Model.Catalog, field, d.Source)),
			show.Readable(show.Show(r.Model.Catalog, field, d.Target))))
	}
	return fmt.Sprintf("it changed in %s since it was matched (%s)", target, strings.Join(what, "; ")), false, nil
}

// asMatched reports whether a record is, byte for byte, what it was when it was matched. Where it
// is not, its values can still be the same.
func (r Ready) asMatched(n Now, t docket.Type) bool {
	here := n.Here[0]
	here.Key = here.Stands()
	return string(record.AppendLine(make([]byte, 0, len(n.line.Target)+1), t.Fields, here)) == n.line.Target
}
