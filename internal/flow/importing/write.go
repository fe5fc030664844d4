package importing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// sequence puts what is left into writing order.
func (im *importing) sequence() ([]sequence.Write, error) {
	var nodes []sequence.Node
	addresses := map[int64]string{}
	for _, a := range im.standing.Approved {
		if im.left[a.Id] != nil || im.already[a.Id] {
			continue
		}
		addresses[a.Id] = a.Address
		node := sequence.Node{ID: a.Id, Rank: im.ranks[a.Typ], New: a.Status == match.New}
		for _, n := range a.Needs {
			if n.Finding != 0 {
				node.Needs = append(node.Needs, sequence.Edge{To: n.Finding, Field: n.Field, Required: n.Required || n.ByName, Change: n.ByName})
			}
		}
		for _, id := range a.After {
			node.Needs = append(node.Needs, sequence.Edge{To: id, Required: true, Change: true})
		}
		nodes = append(nodes, node)
	}
	writes, err := sequence.Order(nodes)
	var circle *sequence.Circle
	if errors.As(err, &circle) {
		var names []string
		for _, id := range circle.IDs[:min(len(circle.IDs), 10)] {
			names = append(names, addresses[id])
		}
		return nil, fmt.Errorf("%w: %s. Create one of them in %s without the reference, then match again", err, strings.Join(names, ", "), im.docket.Header.Target)
	}
	return writes, err
}

// write carries out the writes. Records that the target refuses are collected, so
// that all of them can be named at once; then nothing is written at all.
func (im *importing) write(ctx context.Context, writes []sequence.Write) error {
	byID := map[int64]*standing.Approval{}
	for _, a := range im.standing.Approved {
		byID[a.Id] = a
	}
	im.session.Progress.Start("writing", len(writes))
	defer im.session.Progress.Done()
	failed := map[int64]bool{}
	const maxFailures = 20
	for batch := range slices.Chunk(writes, importBatch) {
		ids := make([]int64, len(batch))
		for i, w := range batch {
			ids[i] = w.ID
		}
		lines, err := im.docket.Lines(ctx, ids)
		if err != nil {
			return err
		}
		var changes []environment.Change
		for _, w := range batch {
			change, err := im.change(byID[w.ID], w, lines[w.ID])
			if err != nil {
				return err
			}
			changes = append(changes, change)
		}
		refused, err := im.work.Write(ctx, im.model, changes)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		for i, w := range batch {
			a := byID[w.ID]
			switch {
			case failed[a.Id] || slices.ContainsFunc(a.Needs, func(n docket.Need) bool { return failed[n.Finding] }):
				failed[a.Id] = true // refused only because what it needs was
			case refused[i] != nil:
				failed[a.Id] = true
				im.fail(a, Refused, refused[i].Error())
				if len(im.result.Failures) == maxFailures {
					return nil
				}
			case len(w.Only) > 0: // the second pass over a new record
			case changes[i].Insert:
				im.result.New++
			default:
				im.result.Changed++
			}
			im.session.Progress.Add(1)
		}
	}
	return nil
}

func (im *importing) fail(a *standing.Approval, why, message string) {
	im.result.Failures = append(im.result.Failures, LeftOut{Address: a.Address, Why: why, Message: message, finding: a.Id})
}

// change makes the write of one record: only approved fields, and for a new record
// the values that belong to the target alone.
func (im *importing) change(a *standing.Approval, w sequence.Write, line docket.Finding) (environment.Change, error) {
	t, _ := im.docket.Type(a.Typ)
	source, err := record.ParseLine([]byte(line.Source), t.Name, t.Fields, im.model.Shapes)
	if err != nil {
		return environment.Change{}, err
	}
	c := environment.Change{Type: a.Typ, Key: source.Key, Insert: a.Status == match.New && len(w.Only) == 0}
	for i, field := range t.Fields {
		v := source.Values[i]
		if v.IsAbsent() || !a.Writes(field.Name) || slices.Contains(w.Without, field.Name) || len(w.Only) > 0 && !slices.Contains(w.Only, field.Name) {
			continue
		}
		if v, err = im.docket.WithContent(v); err != nil {
			return c, err
		}
		c.Fields, c.Values = append(c.Fields, field), append(c.Values, v)
	}
	if len(w.Only) == 0 && a.Rekeys(im.docket.Catalog) {
		c.Was = &source.Key // what it is so far is known by the pair; see named
	}
	if c.Insert {
		typ, _ := im.docket.Catalog.Type(a.Typ)
		c.Fixed = fixedFor(typ, im.docket.Header.Target)
	}
	return c, nil
}

// fixedFor gives the values of local fields that are configured for an environment.
func fixedFor(t *catalog.Type, environment string) map[string]string {
	out := map[string]string{}
	for field, values := range t.Local {
		if value, ok := values[environment]; ok {
			out[field] = value
		}
	}
	return out
}

// readBack reads what was written and compares it with what was approved.
func (im *importing) readBack(ctx context.Context) error {
	im.session.Progress.Start("reading back", im.result.New+im.result.Changed)
	defer im.session.Progress.Done()
	return im.pending(func(t docket.Type, batch []*standing.Approval) error {
		now, lines, err := im.current(ctx, t, batch)
		if err != nil {
			return err
		}
		for _, a := range batch {
			here := now[lines[a.Id].Order]
			if len(here) != 1 {
				im.fail(a, ReadBackDiffers, fmt.Sprintf("%s was written, but reading it back gives %d records with its key; something in %s changes what is written.", a.Address, len(here), im.docket.Header.Target))
				continue
			}
			source, err := record.ParseLine([]byte(lines[a.Id].Source), t.Name, t.Fields, im.model.Shapes)
			if err != nil {
				return err
			}
			if a.Rekeys(im.docket.Catalog) && here[0].Was != nil {
				im.fail(a, ReadBackDiffers, fmt.Sprintf("%s was to get this key and reads back as %s; something in %s changes what is written.",
					a.Address, im.model.Catalog.Address(t.Name, *here[0].Was), im.docket.Header.Target))
				continue
			}
			for _, d := range match.Compare(t.Fields, source.Values, here[0].Values, nil) {
				field := t.Fields[d.Field]
				if !a.Writes(field.Name) {
					continue
				}
				im.fail(a, ReadBackDiffers, fmt.Sprintf("%s: %s was written into field %s and reads back as %s; something in %s changes what is written.",
					a.Address, show.Readable(show.Show(im.model.Catalog, field, d.Source)), field.Name, show.Readable(show.Show(im.model.Catalog, field, d.Target)), im.docket.Header.Target))
				break
			}
		}
		im.session.Progress.Add(len(batch))
		return nil
	})
}
