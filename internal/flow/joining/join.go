package joining

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"anagram/internal/core/decision"
	"anagram/internal/files/safe"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// Decisions that were made in copies of a docket, by people who had nothing else. Only what
// they decided is taken, never what their copy says about the findings.

// Joined says what was read in from copies.
type Joined struct {
	Docket     int
	Copies     []CopyRead
	Clashes    []Clash
	Stopped    []decide.Other // approved in what was read in, and declined or held by others
	OfOthers   []decide.Other // to be opened again, and decided by others alone
	Older      int            // decisions that do not count, as their people decided otherwise later
	Signatures int            // that were not known
}

// CopyRead is one copy.
type CopyRead struct {
	Path     string
	Fresh    int // decisions that were not known
	By       []string
	Comments int // that were not known
}

// Clash is a record, or a field of one, of which people want different sides.
type Clash struct {
	Address string
	Field   string
	People  []string
}

// Join reads the decisions of copies into a docket of the workspace, "" for the newest.
func Join(ctx context.Context, s *session.Session, name string, copies []string) (Joined, error) {
	d, copies, err := openOwn(ctx, s, name, copies)
	if err != nil {
		return Joined{}, err
	}
	defer d.Close()
	out := Joined{Docket: d.Header.Number}
	if err := decide.Settled(ctx, d); err != nil {
		return out, err
	}
	r, err := newReading(ctx, s, d)
	if err != nil {
		return out, err
	}
	known := map[docket.LogEntry]bool{}
	for _, e := range r.own {
		known[e] = true
	}
	var fresh []docket.LogEntry
	said, signed := make([][]docket.Comment, len(copies)), make([][]docket.Signature, len(copies))
	for i, path := range copies {
		read, err := r.file(ctx, path)
		if err != nil {
			return out, err
		}
		said[i], signed[i] = read.comments, read.signatures
		out.OfOthers = append(out.OfOthers, read.ofOthers...)
		c := CopyRead{Path: path}
		onRecord := map[saidOn]bool{}
		for _, e := range read.entries {
			if e.Field == "" {
				onRecord[saidOn{who: e.Who, finding: e.Finding}] = true
			}
		}
		for _, e := range read.entries {
			if known[e] {
				continue
			}
			if e.Overrules = false; known[e] { // a file overrules nobody: the other word stands, and is told
				continue
			}
			if e.Rule {
				return out,
					session.Usage("%s: it holds a decision by a standing rule that docket %d does not have. Nothing was read in", path, d.Header.Number)
			}
			known[e] = true
			fresh = append(fresh, e)
			if e.Field == "" || !onRecord[saidOn{who: e.Who, finding: e.Finding}] {
				c.Fresh++ // the words on the fields of a record that was decided are one decision with it
			}
			if !slices.Contains(c.By, e.Who) {
				c.By = append(c.By, e.Who)
			}
		}
		out.Copies = append(out.Copies, c)
	}
	slices.SortStableFunc(fresh, func(a, b docket.LogEntry) int { return cmp.Compare(a.At, b.At) })
	if err := d.Join(ctx, s.Who, run.Stamp(s.Now()), fresh); err != nil {
		return out, err
	}
	ctx = context.WithoutCancel(ctx) // decisions were taken over, and what was said with them follows
	if err := out.tell(ctx, d, fresh); err != nil {
		return out, err
	}
	counts, err := joinComments(ctx, s, d, said)
	for i, n := range counts {
		out.Copies[i].Comments = n
	}
	if err != nil {
		return out, err
	}
	out.Signatures, err = joinSignatures(ctx, s, d, signed)
	return out, err
}

// openOwn opens the docket of the workspace. Where a copy was put over it, that is taken as
// the copy, and the docket is brought back to what the workspace wrote.
func openOwn(ctx context.Context, s *session.Session, name string, copies []string) (*docket.Docket, []string, error) {
	d, err := s.OpenDocket(ctx, name)
	var strange *register.StrangeError
	if !errors.As(err, &strange) || strange.After < 0 {
		return d, copies, err
	}
	at := slices.IndexFunc(copies, func(path string) bool {
		a, errA := os.Stat(path)
		b, errB := os.Stat(strange.Path)
		return errA == nil && errB == nil && os.SameFile(a, b)
	})
	if at < 0 {
		return nil, nil, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return nil, nil, err
	}
	aside := filepath.Join(scratch, "read-"+filepath.Base(strange.Path))
	if err := copyFile(strange.Path, aside); err != nil {
		return nil, nil, err
	}
	copies = slices.Clone(copies)
	copies[at] = aside
	over, err := docket.Open(ctx, strange.Path)
	if err != nil {
		return nil, nil, err
	}
	if err := errors.Join(over.CutBack(ctx, strange.After), over.Close()); err != nil {
		return nil, nil, err
	}
	d, err = s.OpenDocket(ctx, name)
	return d, copies, err
}

func copyFile(from, to string) error {
	in, err := safe.OpenPlain(from)
	if err != nil {
		return err
	}
	defer in.Close()
	_ = os.Remove(to) // what a kill left
	out, err := safe.CreateNew(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// readCopy reads the decisions of a copy, which has to be one of this docket.
func readCopy(ctx context.Context, d *docket.Docket, now time.Time, path string, findings map[int64]docket.Finding) ([]docket.LogEntry,
	[]docket.Comment, []docket.Signature, error) {
	other, err := docket.Open(ctx, path)
	if err != nil {
		return nil, nil, nil, err
	}
	defer other.Close()
	seal, err := other.Verify(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	if seal.Digest != digest {
		return nil, nil, nil,
			session.Usage("%s is no copy of docket %d: what it shows differs, so its decisions are about something else. Nothing was read in", path, d.Header.Number)
	}
	log, err := other.Log(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	for i, e := range log {
		f, there := findings[e.Finding]
		knows := e.Field == "" || slices.ContainsFunc(f.Fields, func(field docket.Field) bool { return field.Field == e.Field })
		if ahead(e.At, now) {
			return nil, nil, nil, session.Usage("%s: decision %d was made at %.40q, which is no time that has been. Nothing was read in", path, i+1, e.At)
		}
		if at, err := time.Parse(time.RFC3339, e.At); err != nil || run.Stamp(at) != e.At {
			return nil, nil, nil, session.Usage("%s: decision %d was made at %.40q, which is no time as dockets keep it. Nothing was read in", path, i+1, e.At)
		}
		if !there || !knows || decision.Unfit(e.Who) != "" || decide.Words("the note", e.Note) != nil ||
			!slices.Contains([]decision.Decision{decision.Undecided, decision.Approved, decision.Declined, decision.Held,
				decision.TargetKept, decision.Reopened}, e.Decision) {
			return nil, nil, nil, session.Usage("%s: decision %d is none that can be made in docket %d. Nothing was read in", path,
				i+1, d.Header.Number)
		}
	}
	comments, err := commentsOf(ctx, path, other, findings)
	if err != nil {
		return nil, nil, nil, err
	}
	signatures, err := signaturesOf(ctx, path, other)
	return log, comments, signatures, err
}

// tell says on which of the findings that were decided people want different sides, and which
// approvals others' words stop.
func (out *Joined) tell(ctx context.Context, d *docket.Docket, fresh []docket.LogEntry) error {
	by := map[int64][]string{} // who approved it in what was read in
	said := map[int64][]docket.LogEntry{}
	var ids []int64
	for _, e := range fresh {
		if _, known := by[e.Finding]; !known {
			ids = append(ids, e.Finding)
			by[e.Finding] = nil
		}
		said[e.Finding] = append(said[e.Finding], e)
		if e.Decision == decision.Approved && !slices.Contains(by[e.Finding], e.Who) {
			by[e.Finding] = append(by[e.Finding], e.Who)
		}
	}
	for batch := range slices.Chunk(ids, mostAtOnce) {
		for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: batch}) {
			if err != nil {
				return err
			}
			out.Older += older(f, said[f.ID])
			for _, w := range f.Wanted {
				out.Clashes = append(out.Clashes, Clash{f.Address, w.Field, sidesText(w)})
			}
			for _, who := range by[f.ID] {
				if others := f.Stoppers(who); len(others) > 0 {
					out.Stopped = append(out.Stopped, decide.Other{Address: f.Address, By: others})
					break
				}
			}
		}
	}
	return nil
}

// older counts the words of which their own people said something else later.
func older(f docket.Finding, said []docket.LogEntry) int {
	n := 0
	for _, e := range said {
		if e.Decision == decision.Undecided || e.Decision == decision.Reopened || f.By(e.Who, e.Field) == e.Decision {
			continue
		}
		n++
	}
	return n
}

// mostAtOnce is how many findings are asked for in one statement.
const mostAtOnce = 5000

func sidesText(w decision.Wanted) []string {
	var out []string
	for _, who := range w.Source {
		out = append(out, fmt.Sprintf("%s (%s)", who, decision.Approved))
	}
	for _, who := range w.Target {
		out = append(out, fmt.Sprintf("%s (%s)", who, decision.TargetKept))
	}
	return out
}
