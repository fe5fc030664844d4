package run

import (
	"context"
	"slices"

	"anagram/internal/files/sqlitefile"
)

// Run is one import or rehearsal.
type Run struct {
	Seq       int64
	Kind      string // import or rehearsal
	Who       string
	StartedAt string
	Journaled bool   // each write was lasting by itself, and is in the journal
	EndedAt   string // "" while it runs, or where it was interrupted
	Outcome   string // imported, rehearsed, blocked, interrupted, failed
	New       int
	Changed   int
	Removed   int
	LeftOut   int
	Message   string
}

// Kinds of runs.
const (
	ImportRun    = "import"
	RehearsalRun = "rehearsal"
	FilesRun     = "load files"   // written for somebody else to load
	ConfirmRun   = "confirmation" // a match found them loaded
)

// Outcomes of runs.
const (
	Imported    = "imported"
	Rehearsed   = "rehearsed"
	Blocked     = "blocked"
	Interrupted = "interrupted"
	Failed      = "failed"
	// Unknown is an import of whose end the target's answer was lost.
	Unknown = "unknown"
	// WrittenOtherwise is an import into a target without transactions in which something read
	// back other than it was written.
	WrittenOtherwise = "written-otherwise"
	// WrittenOut is that of load files; a later match finds out whether they were loaded.
	WrittenOut = "load-files"
)

// LoadsWait reports whether load files were written and are not confirmed yet.
func LoadsWait(runs []Run) bool {
	waiting := false
	for _, r := range runs {
		switch {
		case r.Kind == FilesRun && r.Outcome == WrittenOut:
			waiting = true
		case r.Done():
			waiting = false
		}
	}
	return waiting
}

// Unsettled reports whether the run is an import of which nobody knows how it ended: it
// was broken off while everything was made lasting, or the answer was lost. One that was
// broken off before wrote nothing.
func (r Run) Unsettled() bool { return r.Kind == ImportRun && r.Outcome == Unknown }

// LastUnsettled gives the import that a docket is left with, where nobody knows how it ended.
func LastUnsettled(runs []Run) (Run, bool) {
	for _, r := range slices.Backward(runs) {
		if r.Kind == ImportRun || r.Kind == ConfirmRun {
			return r, r.Unsettled()
		}
	}
	return Run{}, false
}

// Unfinished reports whether the run is an import that was broken off with some of it written.
func (r Run) Unfinished() bool {
	return r.Kind == ImportRun && r.Journaled && (r.EndedAt == "" || r.Outcome == Interrupted)
}

// LastUnfinished gives the import that a docket is left with, where it was broken off.
func LastUnfinished(runs []Run) (Run, bool) {
	for _, r := range slices.Backward(runs) {
		if r.Kind == ImportRun || r.Kind == ConfirmRun {
			return r, r.Unfinished()
		}
	}
	return Run{}, false
}

// Done reports whether the run ended with the approved records in the target.
func (r Run) Done() bool {
	return (r.Kind == ImportRun || r.Kind == ConfirmRun) && r.Outcome == Imported
}

// List gives the runs of a docket, oldest first.
func List(ctx context.Context, b Book) ([]Run, error) {
	q, done := b.Reading()
	defer done()
	out, err := runs(ctx, q)
	return out, b.Wrap(err)
}

func runs(ctx context.Context, q sqlitefile.Queryer) ([]Run, error) {
	return sqlitefile.List(ctx, q, func(row sqlitefile.Row) (r Run, err error) {
		return r, row.Scan(&r.Seq, &r.Kind, &r.Who, &r.StartedAt, &r.Journaled, &r.EndedAt, &r.Outcome, &r.New, &r.Changed,
			&r.Removed, &r.LeftOut, &r.Message)
	}, "SELECT seq, kind, who, started_at, journaled, ended_at, outcome, new, changed, removed, left_out, message FROM runs ORDER BY seq")
}
