package importing

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
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// pending gives the approvals that are still to be written, by type and in batches.
func (im *importing) pending(give func(typ docket.Type, batch []*standing.Approval) error) error {
	var batch []*standing.Approval
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		t, _ := im.docket.Type(batch[0].Typ)
		err := give(t, batch)
		batch = nil
		return err
	}
	for _, a := range im.standing.Approved {
		if im.left[a.Id] != nil || im.already[a.Id] {
			continue
		}
		if len(batch) == importBatch || len(batch) > 0 && batch[0].Typ != a.Typ {
			if err := flush(); err != nil {
				return err
			}
		}
		batch = append(batch, a)
	}
	return flush()
}

// current reads the records of some approvals as they are in the target now, with the
// lines that the docket holds of them.
func (im *importing) current(ctx context.Context, t docket.Type, batch []*standing.Approval) (map[string][]record.Record, map[int64]docket.Finding, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.Id
	}
	lines, err := im.docket.Lines(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	keys := make([]record.Key, len(batch))
	for i, a := range batch {
		if keys[i], err = im.model.Shapes.ParseKey([]byte(lines[a.Id].Key), t.Name); err != nil {
			return nil, nil, err
		}
	}
	now := map[string][]record.Record{}
	for rec, err := range im.work.Read(ctx, im.model, environment.Reading{Type: t.Name, Fields: t.Fields, Keys: keys}) {
		if err != nil {
			return nil, nil, err
		}
		now[rec.Key.Order()] = append(now[rec.Key.Order()], rec)
	}
	return now, lines, nil
}

// readAgain compares the touched records with what they were when matched, leaves out
// those that moved, and keeps the before-images of the others.
func (im *importing) readAgain(ctx context.Context) error {
	total := len(im.standing.Approved) - len(im.left)
	im.session.Progress.Start("reading the target again", total)
	defer im.session.Progress.Done()
	return im.pending(func(t docket.Type, batch []*standing.Approval) error {
		now, lines, err := im.current(ctx, t, batch)
		if err != nil {
			return err
		}
		var images []docket.Image
		for _, a := range batch {
			here := now[lines[a.Id].Order]
			source, err := record.ParseLine([]byte(lines[a.Id].Source), t.Name, t.Fields, im.model.Shapes)
			if err != nil {
				return err
			}
			moved, already, err := im.compare(a, t, here, source, lines[a.Id])
			switch {
			case err != nil:
				return err
			case already:
				im.already[a.Id] = true
			case moved != "":
				im.leave(a, MovedSinceMatch, fmt.Sprintf("%s was not imported: %s. Match again to see it as it is now.", a.Address, moved))
			default:
				image := docket.Image{Finding: a.Id}
				if len(here) == 1 {
					before := here[0]
					before.Key = before.Stands()
					image.Line, image.Values = string(record.AppendLine(nil, t.Fields, before)), before.Values
				}
				images = append(images, image)
			}
		}
		im.result.Backup += len(images)
		im.session.Progress.Add(len(batch))
		return im.docket.SaveBackup(ctx, im.run, images)
	})
}

// compare says how a record moved since it was matched, or that it already holds the
// approved values.
func (im *importing) compare(a *standing.Approval, t docket.Type, here []record.Record, source record.Record, line docket.Finding) (moved string, already bool, err error) {
	target := im.docket.Header.Target
	switch {
	case len(here) > 1:
		return fmt.Sprintf("its key now occurs %d times in %s", len(here), target), false, nil
	case len(here) == 0 && a.Status == match.New:
		return "", false, nil
	case len(here) == 0:
		return "it is no longer in " + target, false, nil
	}
	fromSource := match.Compare(t.Fields, source.Values, here[0].Values, nil)
	rekeys := a.Rekeys(im.docket.Catalog)
	approvedDiffer := rekeys && here[0].Was != nil || slices.ContainsFunc(fromSource, func(d match.Difference) bool { return a.Writes(t.Fields[d.Field].Name) })
	if a.Status == match.New {
		if !approvedDiffer {
			return "", true, nil
		}
		return fmt.Sprintf("it was not in %s when it was matched and is there now", target), false, nil
	}
	was, err := record.ParseLine([]byte(line.Target), t.Name, t.Fields, im.model.Shapes)
	if err != nil {
		return "", false, err
	}
	since := match.Compare(t.Fields, was.Values, here[0].Values, nil)
	// One that has the source's key by now may be due to an import that was interrupted.
	renamed := here[0].Stands().Order() != was.Key.Order()
	if len(since) == 0 && !renamed {
		return "", false, nil
	}
	// An import that was interrupted after it was complete leaves exactly this: every
	// difference is an approved field that holds the approved value.
	if !approvedDiffer && (rekeys || !renamed) && !slices.ContainsFunc(since, func(d match.Difference) bool { return !a.Writes(t.Fields[d.Field].Name) }) {
		return "", true, nil
	}
	var what []string
	if renamed {
		what = append(what, "it is "+im.model.Catalog.Address(t.Name, here[0].Stands())+" by now")
	}
	for _, d := range since {
		field := t.Fields[d.Field]
		what = append(what, fmt.Sprintf("%s was %s and is %s", field.Name, show.Readable(show.Show(im.model.Catalog, field, d.Source)), show.Readable(show.Show(im.model.Catalog, field, d.Target))))
	}
	return fmt.Sprintf("it changed in %s since it was matched (%s)", target, strings.Join(what, "; ")), false, nil
}

// checkReferences leaves out records that refer to something the target had when it
// was matched and no longer has.
func (im *importing) checkReferences(ctx context.Context) error {
	pending := map[int64]*standing.Approval{}
	for _, a := range im.standing.Approved {
		if im.left[a.Id] == nil && !im.already[a.Id] {
			pending[a.Id] = a
		}
	}
	byType := map[string][]docket.Need{}
	check := func(typ string) error {
		needs := byType[typ]
		delete(byType, typ)
		keys := make([]record.Key, len(needs))
		for i, n := range needs {
			var err error
			if keys[i], err = im.model.Shapes.ParseKey([]byte(n.Key), typ); err != nil {
				return err
			}
		}
		counts, err := im.work.Locate(ctx, im.model, typ, keys)
		if err != nil {
			return err
		}
		for i, n := range needs {
			if a := pending[n.Holder]; counts[i] != 1 && im.left[a.Id] == nil {
				im.leave(a, MovedSinceMatch, fmt.Sprintf("%s was not imported: it refers to %s (field %s), which was in %s when it was matched and is no longer there. Match again to see it as it is now.",
					a.Address, n.Address, n.Field, im.docket.Header.Target))
			}
		}
		return nil
	}
	for n, err := range im.docket.Needs(ctx, true) {
		if err != nil {
			return err
		}
		a := pending[n.Holder]
		if a == nil || n.InTarget != 1 || !a.Writes(n.Field) {
			continue
		}
		byType[n.Type] = append(byType[n.Type], n)
		if len(byType[n.Type]) == importBatch {
			if err := check(n.Type); err != nil {
				return err
			}
		}
	}
	for typ := range byType {
		if err := check(typ); err != nil {
			return err
		}
	}
	return nil
}

// leaveOutDependents leaves out what depends on a new record that was left out.
func (im *importing) leaveOutDependents() {
	byID := map[int64]*standing.Approval{}
	var candidates []check.Candidate
	for _, a := range im.standing.Approved {
		byID[a.Id] = a
		if im.already[a.Id] {
			continue
		}
		c := check.Candidate{ID: a.Id}
		if im.left[a.Id] != nil {
			c.Blocked = im.left[a.Id].Why
		}
		for _, n := range a.Needs {
			if n.Finding != 0 && !im.already[n.Finding] {
				c.Needs = append(c.Needs, n.Finding)
			}
		}
		for _, id := range a.After {
			if !im.already[id] {
				c.Needs = append(c.Needs, id)
			}
		}
		candidates = append(candidates, c)
	}
	for id, because := range check.Standing(candidates) {
		a, needed := byID[id], byID[because]
		if im.left[id] == nil && needed != nil {
			im.leave(a, DependsOnLeft, fmt.Sprintf("%s was not imported: it needs %s, which was left out itself.", a.Address, needed.Address))
		}
	}
}
