package register

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"time"

	"anagram/internal/core/decision"
	"anagram/internal/files/safe"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/workspace"
)

// Entry is one docket of the workspace. Err is set where it cannot be read; then only its
// number and path are known.
type Entry struct {
	docket.Summary
	Path string
	Err  error
}

// Past is one docket of the workspace, its decisions uncounted. Err is as in Entry.
type Past struct {
	docket.Past
	Err error
}

// head is the first line of the register.
type head struct {
	Workspace string `json:"workspace"` // an id, made once
	Version   int    `json:"version"`
}

const version = 1

// line is what the register says of a docket.
type line struct {
	Docket   int       `json:"docket"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Match    header    `json:"match"`
	decision.Tally
	Runs     []pastRun `json:"runs,omitempty"`
	AfterDue bool      `json:"after_due,omitempty"`
	Form     int       `json:"form,omitempty"` // of the docket, where it is the newest; 0 for an earlier one
}

// header is what is asked of a docket that is not open.
type header struct {
	Parcel       string `json:"parcel"`
	ParcelFile   string `json:"parcel_file"`
	Source       string `json:"source"`
	Target       string `json:"target"`
	TargetParcel string `json:"target_parcel,omitempty"`
	ByHand       bool   `json:"by_hand,omitempty"`
	Restores     int    `json:"restores,omitempty"`
	ExportedAt   string `json:"exported_at"`
	MatchedAt    string `json:"matched_at"`
	MatchedBy    string `json:"matched_by"`
	// Brings is docket.Header.Brings.
	Brings map[string]string `json:"brings,omitempty"`
}

type pastRun struct {
	Seq       int64  `json:"seq"`
	Kind      string `json:"kind"`
	Who       string `json:"by"`
	StartedAt string `json:"started_at"`
	Journaled bool   `json:"journaled,omitempty"`
	EndedAt   string `json:"ended_at"`
	Outcome   string `json:"outcome"`
	New       int    `json:"new"`
	Changed   int    `json:"changed"`
	Removed   int    `json:"removed,omitempty"`
	LeftOut   int    `json:"left_out"`
	Message   string `json:"message,omitempty"`
}

// formOf is the form of a docket as a line has it.
func formOf(s docket.Summary) int {
	if s.Earlier {
		return 0
	}
	return form.Version
}

func lineOf(number int, info fs.FileInfo, s docket.Summary) line {
	h := s.Header
	out := line{Docket: number, Size: info.Size(), Modified: info.ModTime().UTC(), Tally: s.Tally, AfterDue: s.AfterDue,
		Form: formOf(s),
		Match: header{h.Parcel, h.ParcelFile, h.Source, h.Target, h.TargetParcel, h.ByHand, h.Restores, h.ExportedAt, h.MatchedAt,
			h.MatchedBy, h.Brings}}
	for _, r := range s.Runs {
		out.Runs = append(out.Runs, pastRun(r))
	}
	return out
}

func (l line) summary() docket.Summary {
	m := l.Match
	out := docket.Summary{Tally: l.Tally, Past: docket.Past{AfterDue: l.AfterDue, Earlier: l.Form < form.Version,
		Header: docket.Header{Number: l.Docket, Parcel: m.Parcel, ParcelFile: m.ParcelFile, Source: m.Source, Target: m.Target,
			TargetParcel: m.TargetParcel, ByHand: m.ByHand, Restores: m.Restores, ExportedAt: m.ExportedAt, MatchedAt: m.MatchedAt,
			MatchedBy: m.MatchedBy, Brings: m.Brings}}}
	for _, r := range l.Runs {
		out.Runs = append(out.Runs, run.Run(r))
	}
	return out
}

func (l line) of(info fs.FileInfo) bool {
	return l.Size == info.Size() && l.Modified.Equal(info.ModTime())
}

// Dockets gives every docket of a workspace, oldest first. Only those that changed since
// they were last asked for are opened.
func Dockets(ctx context.Context, w *workspace.Workspace) ([]Entry, error) {
	return dockets(ctx, w, true)
}

// Pasts gives the same without counting what was decided, which can take its time in a docket
// that has just changed. One that the register does not know yet is counted, and known from then
// on.
func Pasts(ctx context.Context, w *workspace.Workspace) ([]Past, error) {
	entries, err := dockets(ctx, w, false)
	return PastsOf(entries), err
}

// PastsOf gives of some dockets what is known without counting.
func PastsOf(entries []Entry) []Past {
	out := make([]Past, len(entries))
	for i, e := range entries {
		out[i] = Past{e.Past, e.Err}
	}
	return out
}

// dockets gives every docket; one that changed is counted anew only where that is asked for.
func dockets(ctx context.Context, w *workspace.Workspace, recount bool) ([]Entry, error) {
	numbers, err := w.DocketNumbers()
	if err != nil || len(numbers) == 0 {
		return nil, err
	}
	known, err := read(path(w))
	if err != nil {
		return nil, err
	}
	var out []Entry
	var fresh []line
	for _, n := range numbers {
		e := Entry{Path: w.DocketPath(n)}
		e.Header.Number = n
		info, err := os.Stat(e.Path)
		if l, ok := known[n]; err == nil && ok && l.of(info) {
			e.Summary = l.summary()
		} else if err == nil {
			count := recount || !ok
			e.Summary, err = summarize(ctx, e.Path, n, count)
			if err == nil && count {
				fresh = append(fresh, lineOf(n, info, e.Summary))
			}
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		e.Err = err
		out = append(out, e)
	}
	// Who may only read the workspace does without.
	_ = add(path(w), fresh)
	return out, nil
}

func summarize(ctx context.Context, path string, number int, count bool) (docket.Summary, error) {
	d, err := docket.OpenNumbered(ctx, path, number)
	if err != nil {
		return docket.Summary{Past: docket.Past{Header: docket.Header{Number: number}}}, err
	}
	defer d.Close()
	if count {
		return docket.Summarize(ctx, d)
	}
	past, err := docket.PastOf(ctx, d)
	return docket.Summary{Past: past}, err
}

// maxLine bounds a line of the register.
const maxLine = 16 << 20

// read gives the last line on each docket. Lines that cannot be read say nothing: the
// dockets do.
func read(path string) (known map[int]line, err error) {
	known = map[int]line{}
	f, err := safe.OpenPlain(path)
	if errors.Is(err, fs.ErrNotExist) {
		return known, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, maxLine)
	for n := 0; lines.Scan(); n++ {
		if n == 0 {
			var h head
			if json.Unmarshal(lines.Bytes(), &h) != nil || h.Version != version {
				return known, nil
			}
			continue
		}
		var l line
		if json.Unmarshal(lines.Bytes(), &l) == nil && l.Docket > 0 && !l.Modified.IsZero() {
			known[l.Docket] = l
		}
	}
	return known, nil
}

// beginning is the first line of a register.
func beginning() ([]byte, error) {
	text, err := json.Marshal(head{Workspace: rand.Text(), Version: version})
	return append(text, '\n'), err
}

// add appends what was found anew.
func add(path string, fresh []line) error {
	if len(fresh) == 0 {
		return nil
	}
	var text bytes.Buffer
	encode := json.NewEncoder(&text)
	for _, l := range fresh {
		if err := encode.Encode(l); err != nil {
			return err
		}
	}
	return appendTo(path, text.Bytes(), false)
}
