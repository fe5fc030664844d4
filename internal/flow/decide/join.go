package decide

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"anagram/internal/files/safe"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// Decisions that were made in copies of a docket, by people who had nothing else. Only what
// they decided is taken, never what their copy says about the findings.

// Joined says what was read in from copies.
type Joined struct {
	Docket     int
	Copies     []CopyRead
	Clashes    []Clash
	Signatures int // that were not known
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
	if err := settled(ctx, d); err != nil {
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
		c := CopyRead{Path: path}
		for _, e := range read.entries {
			if known[e] {
				continue
			}
			if e.Rule {
				return out, session.Usage("%s: it holds a decision by a standing rule that docket %d does not have. Nothing was read in", path, d.Header.Number)
			}
			known[e] = true
			fresh = append(fresh, e)
			c.Fresh++
			if !slices.Contains(c.By, e.Who) {
				c.By = append(c.By, e.Who)
			}
		}
		out.Copies = append(out.Copies, c)
	}
	slices.SortStableFunc(fresh, func(a, b docket.LogEntry) int { return cmp.Compare(a.At, b.At) })
	entries, clashes := settleDecisions(r.own, fresh, s.Who, docket.Stamp(s.Now()))
	for _, c := range clashes {
		c.Address = r.byID[c.finding].Address
		out.Clashes = append(out.Clashes, c.Clash)
	}
	if err := d.Join(ctx, s.Who, docket.Stamp(s.Now()), entries); err != nil {
		return out, err
	}
	ctx = context.WithoutCancel(ctx) // decisions were taken over, and what was said with them follows
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
func readCopy(ctx context.Context, d *docket.Docket, path string, findings map[int64]docket.Finding) ([]docket.LogEntry, []docket.Comment, []docket.Signature, error) {
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
		return nil, nil, nil, session.Usage("%s is no copy of docket %d: what it shows differs, so its decisions are about something else. Nothing was read in", path, d.Header.Number)
	}
	log, err := other.Log(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	for i, e := range log {
		f, there := findings[e.Finding]
		knows := e.Field == "" || slices.ContainsFunc(f.Fields, func(field docket.Field) bool { return field.Field == e.Field })
		if !there || !knows || e.Who == "" || words("the note", e.Note) != nil || !slices.Contains([]docket.Decision{docket.Undecided, docket.Approved, docket.Declined, docket.Held, docket.TargetKept, docket.Reopened}, e.Decision) {
			return nil, nil, nil, session.Usage("%s: decision %d is none that can be made in docket %d. Nothing was read in", path, i+1, d.Header.Number)
		}
	}
	comments, err := commentsOf(ctx, path, other, findings)
	if err != nil {
		return nil, nil, nil, err
	}
	signatures, err := signaturesOf(ctx, path, other)
	return log, comments, signatures, err
}

type clashOn struct {
	Clash
	finding int64
}

// settleDecisions gives what is to be added to a log so that all of what was said is in it
// and what comes last is what holds: of one person the latest word; between persons a
// decline or hold wins over an approval; where they want different sides it is open.
func settleDecisions(own, fresh []docket.LogEntry, who, at string) ([]docket.LogEntry, []clashOn) {
	type on struct {
		finding int64
		field   string
	}
	said := map[on][]docket.LogEntry{}
	for _, e := range slices.Concat(own, fresh) {
		said[on{e.Finding, e.Field}] = append(said[on{e.Finding, e.Field}], e)
	}
	entries := slices.Clone(fresh)
	var clashes []clashOn
	done := map[on]bool{}
	for _, e := range fresh {
		at2 := on{e.Finding, e.Field}
		if done[at2] {
			continue
		}
		done[at2] = true
		of := said[at2]
		if e.Field != "" { // who declined the record declined its fields
			of = slices.Concat(said[on{e.Finding, ""}], of)
		}
		wins, people := winner(of)
		switch {
		case people != nil:
			clashes = append(clashes, clashOn{Clash{Field: e.Field, People: people}, e.Finding})
			entries = append(entries, docket.LogEntry{At: at, Who: who, Finding: e.Finding, Field: e.Field, Decision: docket.Undecided, Note: "different sides are wanted"})
		default:
			wins.Field = e.Field
			if last := of[len(of)-1]; last != wins {
				entries = append(entries, wins)
			}
		}
	}
	return entries, clashes
}

// winner gives the decision that holds among those of several people, or who they are that
// want different sides.
func winner(of []docket.LogEntry) (wins docket.LogEntry, clash []string) {
	latest := map[string]docket.LogEntry{}
	var people []string
	for _, e := range of {
		if _, ok := latest[e.Who]; !ok {
			people = append(people, e.Who)
		}
		if e.At >= latest[e.Who].At {
			latest[e.Who] = e
		}
	}
	var safe, rest []docket.LogEntry
	for _, person := range people {
		switch e := latest[person]; e.Decision {
		case docket.Declined, docket.Held:
			safe = append(safe, e)
		case docket.Undecided:
		default:
			rest = append(rest, e)
		}
	}
	byTime := func(a, b docket.LogEntry) int { return cmp.Compare(a.At, b.At) }
	if len(safe) > 0 {
		slices.SortStableFunc(safe, byTime)
		return safe[len(safe)-1], nil
	}
	if len(rest) == 0 {
		return of[len(of)-1], nil
	}
	slices.SortStableFunc(rest, byTime)
	for _, e := range rest {
		if e.Decision != rest[0].Decision {
			for _, one := range rest {
				clash = append(clash, fmt.Sprintf("%s (%s)", one.Who, one.Decision))
			}
			return docket.LogEntry{}, clash
		}
	}
	return rest[len(rest)-1], nil
}
