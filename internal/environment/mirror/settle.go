package mirror

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"anagram/internal/environment"
)

// attempts is how often an edit is sent whose answers are lost.
const attempts = 8

// deliver sends edits until something is known of each. Before one is sent again, what is
// there now is read: an edit that took effect is not repeated.
func (w *work) deliver(ctx context.Context, edits []Edit) ([]Outcome, error) {
	out := make([]Outcome, len(edits))
	open := make([]int, len(edits))
	for i := range edits {
		open[i] = i
	}
	for try := 1; len(open) > 0; try++ {
		some := make([]Edit, len(open))
		for i, at := range open {
			some[i] = edits[at]
		}
		came, err := w.service.Send(ctx, some)
		if err != nil {
			return nil, err
		}
		if len(came) != len(some) {
			return nil, &environment.Error{Environment: w.name, Message: "the service did not answer as many requests as were sent.",
				Mend: "Import with --resume: what came of them is read then."}
		}
		var lost []int
		var wait time.Duration
		for i, at := range open {
			if out[at] = came[i]; came[i].Lost != nil {
				lost, wait = append(lost, at), max(wait, came[i].After)
			}
		}
		if len(lost) == 0 {
			return out, nil
		}
		if try == attempts || wait > 2*time.Minute {
			return nil, out[lost[0]].Lost
		}
		if err := pause(ctx, max(wait, time.Duration(try*try)*50*time.Millisecond)); err != nil {
			return nil, err
		}
		if open, err = w.settle(ctx, edits, lost, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func pause(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// settle reads what came of edits; those that did not happen are to be sent again.
func (w *work) settle(ctx context.Context, edits []Edit, lost []int, out []Outcome) ([]int, error) {
	var again []int
	for _, at := range lost {
		edit := edits[at]
		rows, err := w.find(ctx, edit)
		if err != nil {
			return nil, err
		}
		switch {
		case edit.Kind == Remove && len(rows) == 0:
			out[at] = Outcome{}
		case edit.Kind == Change && len(rows) == 0:
			out[at] = Outcome{Moved: true}
		case edit.Kind == Add && len(rows) == 0:
			again = append(again, at)
		case edit.Kind == Add && len(rows) > 1:
			return nil, &environment.Error{Environment: w.name,
				Message: fmt.Sprintf("%d records of %s are there now where one was to be added and the answer was lost.",
					len(rows), edit.Set),
				Mend: "Look at them in the target, remove what is too much, and import with --resume."}
		case edit.Kind != Remove && w.holds(rows[0], edit):
			out[at] = Outcome{Row: &rows[0]}
		case edit.Kind == Add:
			out[at] = Outcome{Row: &rows[0], Refused: errors.New("its key is taken by now, by a record with other values")}
		case edit.Tag != "" && rows[0].Tag != edit.Tag:
			out[at] = Outcome{Row: &rows[0], Moved: true}
		default:
			again = append(again, at)
		}
	}
	return again, nil
}

// find reads the rows that an edit is about.
func (w *work) find(ctx context.Context, edit Edit) ([]Row, error) {
	h := w.sets[edit.Set]
	q := Query{Set: edit.Set, Columns: h.columns, Refs: []string{edit.Ref}}
	if edit.Kind == Add {
		q.Refs = nil
		for _, column := range edit.Key {
			narrows, err := w.service.Narrows(ctx, edit.Set, column)
			if err != nil {
				return nil, err
			}
			if v := edit.Values[column]; narrows && v != nil {
				q.By, q.In = column, []any{v}
				break
			}
		}
	}
	var rows []Row
	err := w.service.Fetch(ctx, q, func(row Row) error {
		same := !slices.ContainsFunc(edit.Key,
			func(column string) bool { return valueText(row.Values[column]) != valueText(edit.Values[column]) })
		if edit.Kind != Add || same {
			rows = append(rows, row)
		}
		return nil
	})
	return rows, err
}

// holds reports whether a row has all that an edit was to write, as far as that can be read.
func (w *work) holds(row Row, edit Edit) bool {
	for column, v := range edit.Values {
		if slices.Contains(edit.Loose, column) || !slices.Contains(w.sets[edit.Set].columns, column) {
			continue
		}
		if have, there := row.Values[column]; !there && v != nil || valueText(have) != valueText(v) {
			return false
		}
	}
	return true
}
