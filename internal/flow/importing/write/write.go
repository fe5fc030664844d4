package write

import (
	"context"
	"errors"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

const (
	writeBatch = 500
)

// EachChange gives the writes as changes, in their order and a batch at a time. Those that are
// expecting say what their records hold so far, which nobody needs to be told who has locked them.
func EachChange(ctx context.Context, r prepare.Ready, writes []sequence.Write, expecting bool,
	do func([]sequence.Write, []*standing.Approval, []environment.Change) error) error {
	byID := map[int64]*standing.Approval{}
	for _, a := range r.Standing.Approved {
		byID[a.ID] = a
	}
	kept := prepare.Ahead(func(yield func(keptOf, error) bool) {
		for batch := range slices.Chunk(writes, writeBatch) {
			k, err := keep(ctx, r, batch, byID)
			if !yield(k, err) || err != nil {
				return
			}
		}
	})
	for k, err := range kept {
		if err != nil {
			return err
		}
		// Here, as attachments are in the changes: one batch of those is enough.
		changes := make([]environment.Change, len(k.writes))
		for i, w := range k.writes {
			if changes[i], err = change(r, k.approvals[i], w, k.lines[w.ID]); err != nil {
				return err
			}
			if len(w.Only) > 0 {
				continue
			}
			changes[i].Stored = k.backs[w.ID].Stored
			changes[i].At, changes[i].Check = k.images[w.ID].ID, r.Checked
			if !expecting {
				continue
			}
			if err = expects(r, k.approvals[i], &changes[i], k.images[w.ID]); err != nil {
				return err
			}
		}
		if err := do(k.writes, k.approvals, changes); err != nil {
			return err
		}
	}
	return nil
}

// keptOf is what the docket keeps of some writes.
type keptOf struct {
	writes    []sequence.Write
	approvals []*standing.Approval
	lines     map[int64]docket.Finding
	images    map[int64]run.Image
	backs     map[int64]docket.Back
}

func keep(ctx context.Context, r prepare.Ready, writes []sequence.Write, byID map[int64]*standing.Approval) (keptOf, error) {
	k := keptOf{writes: writes, approvals: make([]*standing.Approval, len(writes))}
	for i, w := range writes {
		k.approvals[i] = byID[w.ID]
	}
	var err error
	if k.lines, err = r.Lines(ctx, k.approvals); err != nil {
		return k, err
	}
	if k.images, err = r.Images(ctx, k.approvals); err != nil {
		return k, err
	}
	k.backs, err = r.Backs(ctx, k.approvals)
	return k, err
}

// expects adds to a change what its record holds so far in the fields of the change, and its key
// as it is spelled there.
func expects(r prepare.Ready, a *standing.Approval, c *environment.Change, image run.Image) error {
	c.Expect = make([]record.Value, len(c.Fields))
	for i := range c.Expect {
		c.Expect[i] = record.AbsentValue()
	}
	t, _ := r.Docket.Type(a.Type)
	if image.Line == "" {
		return nil
	}
	before, err := record.ParseLine([]byte(image.Line), a.Type, t.Fields, r.Model.Shapes)
	if err != nil {
		return err
	}
	c.There = &before.Key
	for i, field := range c.Fields {
		at := record.FieldAt(t.Fields, field.Name)
		if at < 0 {
			continue
		}
		if c.Expect[i], err = r.Docket.Found.WithContent(before.Values[at]); err != nil {
			return err
		}
	}
	return nil
}

// change makes the write of one record: only approved fields, and for a new record
// the values that belong to the target alone.
func change(r prepare.Ready, a *standing.Approval, w sequence.Write, line docket.Finding) (environment.Change, error) {
	t, _ := r.Docket.Type(a.Type)
	if a.Removes {
		key, err := r.Model.Shapes.ParseKey([]byte(line.Key), a.Type)
		c := environment.Change{Type: a.Type, Key: key, By: prepare.Signature(r, a.Type), Remove: len(w.Clear) == 0}
		for _, field := range t.Fields {
			if slices.Contains(w.Clear, field.Name) {
				c.Clear = append(c.Clear, field)
			}
		}
		return c, err
	}
	source, err := r.Source(t, line)
	if err != nil {
		return environment.Change{}, err
	}
	c := environment.Change{Type: a.Type, Key: source.Key, Insert: a.Status == match.New && len(w.Only) == 0}
	for i, field := range t.Fields {
		v := source.Values[i]
		if c.Insert && slices.Contains(w.Without, field.Name) {
			c.Later = append(c.Later, field)
		}
		if v.IsAbsent() || !a.Writes(field.Name) || slices.Contains(w.Without, field.Name) || len(w.Only) > 0 &&
			!slices.Contains(w.Only, field.Name) {
			continue
		}
		if v, err = r.Docket.Found.WithContent(v); err != nil {
			return c, err
		}
		c.Fields, c.Values = append(c.Fields, field), append(c.Values, v)
	}
	if len(w.Only) == 0 && a.Rekeys(r.Model.Catalog) {
		c.Was = &source.Key // what it is so far is known by the pair; see sides.Named
	}
	c.By = prepare.Signature(r, a.Type)
	if c.Insert {
		typ, _ := r.Model.Catalog.Type(a.Type)
		c.Fixed = fixedFor(typ, r.Model.Environment)
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

// Written counts records.
type Written struct{ New, Changed, Removed int }

// Count adds one write.
func (w *Written) Count(step sequence.Write, c environment.Change) {
	switch {
	case len(step.Only)+len(step.Clear) > 0: // another pass over a record
	case c.Remove:
		w.Removed++
	case c.Insert:
		w.New++
	default:
		w.Changed++
	}
}

// ErrEnough ends the writing where so many records were refused that naming more is of no use.
var ErrEnough = errors.New("enough records were refused")

// Write carries out the writes. Records that the target refuses are collected, so
// that all of them can be named at once; then nothing is written at all.
func Write(ctx context.Context, s *session.Session, r prepare.Ready, work environment.Work, writes []sequence.Write) (written Written,
	failures []prepare.LeftOut, err error) {
	s.Progress.Start("writing", len(writes))
	defer s.Progress.Done()
	failed := map[int64]bool{}
	err = EachChange(ctx, r, writes, false, func(batch []sequence.Write, approvals []*standing.Approval,
		changes []environment.Change) error {
		refused, err := work.Write(ctx, r.Model, changes)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		for i, w := range batch {
			a := approvals[i]
			switch {
			case failed[a.ID] || slices.ContainsFunc(a.Needs, func(n docket.Need) bool { return failed[n.Finding] }):
				failed[a.ID] = true // refused only because what it needs was
			case refused[i] != nil:
				failed[a.ID] = true
				failures = append(failures, prepare.LeftOut{Address: a.Address, Why: prepare.Refused, Message: refused[i].Error()})
				if len(failures) == prepare.MaxFailures {
					return ErrEnough
				}
			default:
				written.Count(w, changes[i])
			}
			s.Progress.Add(1)
		}
		return nil
	})
	if errors.Is(err, ErrEnough) {
		err = nil
	}
	return written, failures, err
}
