package prepare

import (
	"context"
	"errors"
	"iter"

	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// ReadBatch is how many records are read and looked up at a time.
const ReadBatch = 500

// Backup keeps before-images; they are durable when it returns.
type Backup func([]run.Image) error

// StandAgain reads the target again and gives what is still to be written, in order. The
// rest grows by what moved since the match, and by what depends on it.
func StandAgain(ctx context.Context, s *session.Session, r Ready, target environment.Reader, rest Rest,
	keep Backup) ([]sequence.Write, Rest, error) {
	rest = rest.And(r.unallowed(rest))
	moved, err := readAgain(ctx, s, r, target, rest, keep)
	if err != nil {
		return nil, rest, err
	}
	if err := run.ImagesKept(ctx, r.Docket, r.Run); err != nil {
		return nil, rest, err
	}
	rest = rest.And(moved)
	gone, err := checkReferences(ctx, r, target, rest)
	if err != nil {
		return nil, rest, err
	}
	rest = rest.And(gone)
	rest = rest.And(dependents(r, rest))
	writes, err := Order(r, rest)
	return writes, rest, err
}

// Pending gives the approvals that are still to be written, by type and in batches.
func (r Ready) Pending(rest Rest, give func(typ docket.Type, batch []*standing.Approval) error) error {
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
		if rest.Skips(a) {
			continue
		}
		if len(batch) == ReadBatch || len(batch) > 0 && batch[0].Type != a.Type {
			if err := flush(); err != nil {
				return err
			}
		}
		batch = append(batch, a)
	}
	return flush()
}

// Lines reads what the docket holds of some approvals.
func (r Ready) Lines(ctx context.Context, batch []*standing.Approval) (map[int64]docket.Finding, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.ID
	}
	return r.Docket.Found.Sides(ctx, ids)
}

// Source gives the record of the source that a finding has.
func (r Ready) Source(t docket.Type, line docket.Finding) (record.Record, error) {
	return record.ParseLine([]byte(line.Source), t.Name, t.Fields, r.Model.Shapes)
}

// Now is an approval with its record as it is in the target now.
type Now struct {
	*standing.Approval
	line   docket.Finding
	Source record.Record
	Here   []record.Record // one, where all is well
}

// lot is some approvals of one type, with their records as they are in the target now.
type lot struct {
	Typ    docket.Type
	Batch  []*standing.Approval
	List   []Now
	keys   []record.Key
	Images map[int64]run.Image // what they were before the run, where that is asked for
}

// Lots reads the approvals that are still to be written, each lot while the one before is
// looked at.
func (r Ready) Lots(ctx context.Context, target environment.Reader, rest Rest, images bool) iter.Seq2[lot, error] {
	known := Ahead(func(yield func(lot, error) bool) {
		stop := errors.New("stopped")
		err := r.Pending(rest, func(t docket.Type, batch []*standing.Approval) error {
			l := lot{Typ: t, Batch: batch}
			var err error
			if l.List, l.keys, err = r.known(ctx, t, batch); err == nil && images {
				l.Images, err = r.Images(ctx, batch)
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
	return Ahead(func(yield func(lot, error) bool) {
		for l, err := range known {
			if err == nil {
				err = r.meet(ctx, target, l.Typ, l.List, l.keys)
			}
			if !yield(l, err) || err != nil {
				return
			}
		}
	})
}

// Current reads the records of some approvals as they are in the target now.
func (r Ready) Current(ctx context.Context, target environment.Reader, t docket.Type, batch []*standing.Approval) ([]Now, error) {
	list, keys, err := r.known(ctx, t, batch)
	if err != nil {
		return nil, err
	}
	return list, r.meet(ctx, target, t, list, keys)
}

// known gives what the docket has of some approvals, and their keys.
func (r Ready) known(ctx context.Context, t docket.Type, batch []*standing.Approval) ([]Now, []record.Key, error) {
	lines, err := r.Lines(ctx, batch)
	if err != nil {
		return nil, nil, err
	}
	out := make([]Now, len(batch))
	keys := make([]record.Key, len(batch))
	for i, a := range batch {
		out[i] = Now{Approval: a, line: lines[a.ID]}
		if !a.Removes {
			if out[i].Source, err = r.Source(t, lines[a.ID]); err != nil {
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
func (r Ready) meet(ctx context.Context, target environment.Reader, t docket.Type, list []Now, keys []record.Key) error {
	here := map[string][]record.Record{}
	for rec, err := range target.Read(ctx, r.Model, environment.Reading{Type: t.Name, Fields: t.Fields, Keys: keys,
		Beside: r.Beside[t.Name], Forms: true, Sums: true}) {
		if err != nil {
			return err
		}
		here[rec.Key.Order()] = append(here[rec.Key.Order()], rec)
	}
	for i := range list {
		list[i].Here = here[list[i].line.Order]
	}
	return nil
}

// Images reads the before-images of some approvals.
func (r Ready) Images(ctx context.Context, batch []*standing.Approval) (map[int64]run.Image, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.ID
	}
	return run.Images(ctx, r.Docket, r.Run, ids)
}
