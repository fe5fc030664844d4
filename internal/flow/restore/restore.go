package restore

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
)

// Result is the docket that was made.
type Result struct {
	matching.Result
	Restores int
	Records  int // that the import wrote, as far as they are asked for
}

// Restore makes a docket that takes back what the imports of a docket wrote: of all records,
// or of those that fit one of some addresses or patterns.
func Restore(ctx context.Context, s *session.Session, d *docket.Docket, only []string) (Result, error) {
	h := d.Header
	out := Result{Restores: h.Number}
	if err := prepare.Known(s, d); err != nil {
		return out, err
	}
	if h.TargetParcel != "" {
		return out, session.Usage("Docket %d compares two parcels and was never imported", h.Number)
	}
	patterns, err := patternsOf(only)
	if err != nil {
		return out, err
	}
	runs, err := run.List(ctx, d)
	if err != nil {
		return out, err
	}
	if _, open := run.LastUnsettled(runs); open {
		return out,
			session.Usage("It is not known yet how the last import of docket %d ended. Find it out with anagram import %d, then restore", h.Number, h.Number)
	}
	w, err := writtenBy(ctx, d, runs)
	if err != nil {
		return out, err
	}
	if len(w) == 0 {
		return out, session.Usage("Docket %d was not imported, so there is nothing to take back", h.Number)
	}
	r := restoring{session: s, docket: d, imports: w, patterns: patterns,
		back: &matching.Back{Docket: h.Number, Address: h.TargetAddress, Source: cameFrom(h), Created: map[string][]record.Key{}},
		of:   map[string]docket.Back{}}
	if r.names, err = sides.PairsOf(d); err != nil {
		return out, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return out, err
	}
	folder, err := os.MkdirTemp(scratch, "restore-")
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(folder)
	before, agreed := filepath.Join(folder, fmt.Sprintf("before-docket-%d", h.Number)+parcel.Suffix),
		filepath.Join(folder, "written"+parcel.Suffix)
	if out.Records, err = r.parcels(ctx, folder, before, agreed); err != nil {
		return out, err
	}
	if out.Records == 0 {
		if len(only) > 0 {
			return out, session.Usage("The import of docket %d wrote no record that fits %s", h.Number, strings.Join(only, ", "))
		}
		return out, session.Usage("The import of docket %d wrote nothing, so there is nothing to take back", h.Number)
	}
	r.back.Of = func(typ string, key record.Key) (docket.Back, bool) {
		back, ok := r.of[typ+"\x00"+key.Order()]
		return back, ok
	}
	r.back.Left = r.left()
	out.Result, err = matching.Match(ctx, s, matching.Request{Parcel: before, Against: h.Target, Agreed: agreed, Back: r.back})
	return out, err
}

func patternsOf(only []string) ([]record.Pattern, error) {
	var out []record.Pattern
	for _, text := range only {
		p, err := record.ParsePattern(text)
		if err != nil {
			return nil, session.Usage("%v", err)
		}
		out = append(out, p)
	}
	return out, nil
}

// cameFrom is the environment whose values a docket brought; of one that restores, the target.
func cameFrom(h docket.Header) string {
	if h.Restores != 0 {
		return h.Target
	}
	if h.Then != "" {
		return h.Then
	}
	return h.Source
}

// wrote is an import that wrote records, with what became of them.
type wrote struct {
	run    run.Run
	ids    map[int64]bool      // findings that were written
	afters map[int64]run.After // of new records
	odd    int64               // the finding that read back otherwise than it was written, 0 for none
}

// writtenBy lists the imports of a docket, oldest first. Of load files that were found to be
// loaded, those that were written last count.
func writtenBy(ctx context.Context, d *docket.Docket, runs []run.Run) ([]wrote, error) {
	var out []wrote
	var files run.Run
	for _, r := range runs {
		if r.Kind == run.FilesRun && r.Outcome == run.WrittenOut {
			files = r
		}
		var one wrote
		var err error
		switch {
		case r.Kind == run.ImportRun && r.Journaled:
			one, err = inSteps(ctx, d, r)
		case r.Kind == run.ConfirmRun && r.Done():
			one, err = loaded(ctx, d, files)
		case r.Done():
			one, err = inOne(ctx, d, r)
		}
		if err != nil {
			return nil, err
		}
		if len(one.ids) > 0 {
			out = append(out, one)
		}
	}
	return out, nil
}

// inOne is what an import wrote in one transaction.
func inOne(ctx context.Context, d *docket.Docket, of run.Run) (wrote, error) {
	one := wrote{run: of, ids: map[int64]bool{}}
	written, err := run.Outcomes(ctx, d, of.Seq, run.WasWritten)
	if err != nil {
		return one, err
	}
	for _, o := range written {
		one.ids[o.Finding] = true
	}
	one.afters, err = run.Afters(ctx, d, of.Seq)
	return one, err
}

// inSteps is what an import wrote record by record, however it ended. What was begun may have
// happened; the target shows whether it did.
func inSteps(ctx context.Context, d *docket.Docket, of run.Run) (wrote, error) {
	one := wrote{run: of, ids: map[int64]bool{}}
	progress, err := run.ProgressOf(ctx, d, of.Seq)
	if err != nil {
		return one, err
	}
	for step, state := range progress.State {
		if state != run.StepRefused {
			one.ids[step.Finding] = true
		}
	}
	if of.Outcome == run.WrittenOtherwise {
		one.odd = progress.Last
	}
	one.afters, err = run.Afters(ctx, d, of.Seq)
	return one, err
}

// loaded is what somebody else loaded from files.
func loaded(ctx context.Context, d *docket.Docket, files run.Run) (wrote, error) {
	one := wrote{run: files, ids: map[int64]bool{}}
	left, err := run.Outcomes(ctx, d, files.Seq, run.WasLeftOut)
	if err != nil {
		return one, err
	}
	images, err := run.ImageIDs(ctx, d, files.Seq)
	for _, id := range images {
		if !slices.ContainsFunc(left, func(o run.Outcome) bool { return o.Finding == id }) {
			one.ids[id] = true
		}
	}
	return one, err
}

// restoring is a docket whose imports are taken back.
type restoring struct {
	session  *session.Session
	docket   *docket.Docket
	imports  []wrote
	patterns []record.Pattern
	names    *pairing.Names // as before the import
	back     *matching.Back
	of       map[string]docket.Back // by type and key
}

// left says what a restore cannot bring back.
func (r *restoring) left() []string {
	var out []string
	for _, t := range r.docket.Types {
		typ, ok := r.docket.Catalog.Type(t.Name)
		if !ok {
			continue
		}
		for _, stamp := range []string{typ.StampAt, typ.StampBy} {
			if stamp != "" && !slices.Contains(out, stamp) {
				out = append(out, stamp)
			}
		}
	}
	var texts []string
	if len(out) > 0 {
		texts = append(texts, "the stamps "+strings.Join(out, " and ")+", which get the time of the restore and who imports it")
	}
	texts = append(texts, "numbers that the database gave to new records", "what triggers did outside of these records")
	return texts
}

var errFinding = errors.New("the docket does not hold a finding that it says was written")
