package register

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"anagram/internal/files/safe"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
)

// The register knows each docket of the workspace by its digest and by the head of its
// chain. It hears of every link before the docket has it, so after a kill it is ahead by
// one at most, which is put right when the docket is opened. Nothing else that a docket
// says is believed: a file may have come from anybody.

// sealed is what the register says of a docket's content.
type sealed struct {
	Docket int    `json:"docket"`
	Digest string `json:"digest"`
	Before string `json:"before,omitempty"` // the head as long as the last link is not written
	Head   string `json:"head"`
	Links  int    `json:"links"`
	// Written says that the docket has the last link. Without, it may be that it was killed
	// before.
	Written bool `json:"written,omitempty"`
}

// StrangeError is a docket that is not as this workspace wrote it.
type StrangeError struct {
	Path    string
	Message string
	// After is how many links the workspace wrote, where the docket goes on after them; else -1.
	After int
}

func (e *StrangeError) Error() string { return e.Path + ": " + e.Message }

func path(w *workspace.Workspace) string { return filepath.Join(w.Dir, ".anagram", "register.jsonl") }

// sealOf gives the last seal of a docket.
func sealOf(w *workspace.Workspace, number int) (last sealed, err error) {
	err = eachLine(w, `"digest"`, func(line []byte) {
		var s sealed
		if json.Unmarshal(line, &s) == nil && s.Docket == number && s.Digest != "" {
			last = s
		}
	})
	return last, err
}

// eachLine gives the lines of the register that hold a text.
func eachLine(w *workspace.Workspace, holds string, do func([]byte)) error {
	f, err := safe.OpenPlain(path(w))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, maxLine)
	for lines.Scan() {
		if bytes.Contains(lines.Bytes(), []byte(holds)) {
			do(lines.Bytes())
		}
	}
	return lines.Err()
}

// note writes a seal, durably.
func note(w *workspace.Workspace, s sealed) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return appendTo(path(w), append(text, '\n'), true)
}

// Add makes a new docket known, before it is in its place.
func Add(w *workspace.Workspace, number int, digest string) error {
	return note(w, sealed{Docket: number, Digest: digest, Head: digest})
}

// Lock keeps other programs from making dockets known until it is given back.
func Lock(ctx context.Context, w *workspace.Workspace) (unlock func(), err error) {
	scratch, err := w.Scratch()
	if err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(filepath.Dir(scratch), ".register.lock"))
	if err := safe.NoLink(lock.Path()); err != nil {
		return nil, err
	}
	if _, err := lock.TryLockContext(ctx, 20*time.Millisecond); err != nil {
		return nil, err
	}
	return func() { _ = lock.Close() }, nil
}

// Open opens a docket of the workspace and checks all of it against the register. One that
// the register does not know can be read, and decided on, but not imported.
func Open(ctx context.Context, w *workspace.Workspace, number int) (*docket.Docket, error) {
	d, err := docket.OpenNumbered(ctx, w.DocketPath(number), number)
	if err != nil {
		return nil, err
	}
	if err := check(ctx, w, d, number); err != nil {
		_ = d.Close()
		return nil, err
	}
	return d, nil
}

// check holds a docket against the register. While somebody decides in it the one may be
// read before and the other after, so what differs is looked at again.
func check(ctx context.Context, w *workspace.Workspace, d *docket.Docket, number int) error {
	for try := 0; ; try++ {
		is, err := d.Verify(ctx)
		if err != nil {
			return err
		}
		last, err := sealOf(w, number)
		if err != nil || last.Digest == "" {
			return err
		}
		switch differs, err := compare(w, is, last); {
		case err != nil:
			return err
		case !differs:
			witness(w, d, number, is.Digest)
			return nil
		case try == 4:
			return strange(ctx, d, is, last)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// compare reports whether a docket is other than the register says.
func compare(w *workspace.Workspace, is docket.Seal, last sealed) (differs bool, err error) {
	switch {
	case is.Digest != last.Digest:
		return true, nil
	case is.Head == last.Head:
		if !last.Written && last.Before != "" {
			last.Written = true
			return false, note(w, last)
		}
		return false, nil
	default: // the last link may have been announced and never written
		return is.Head != last.Before || last.Written, nil
	}
}

// strange says in what a docket is other than the register says.
func strange(ctx context.Context, d *docket.Docket, is docket.Seal, last sealed) error {
	say := func(after int, format string, args ...any) error {
		return &StrangeError{Path: d.Path(), Message: fmt.Sprintf(format, args...), After: after}
	}
	if is.Digest != last.Digest {
		return say(-1,
			"it is not the docket that this workspace made under this number: what the match found differs. Bring the file back as it was, or match again")
	}
	known := []string{last.Head}
	if last.Before != "" && !last.Written { // the one that was announced may be missing
		known = append(known, last.Before)
	}
	for _, head := range known {
		after, err := d.LinkWith(ctx, head)
		if err != nil {
			return err
		}
		if after < 0 && is.Digest == head {
			after = 0 // it had none
		}
		if after >= 0 {
			return say(after,
				"it holds decisions that this workspace did not write. Where they were made elsewhere, read them in with: anagram decide %d --from %s", last.Docket, d.Path())
		}
	}
	return say(-1, "its log is not the one that this workspace wrote. Bring the file back as it was, or match again")
}

// witness makes the register hear of what happens to a docket.
func witness(w *workspace.Workspace, d *docket.Docket, number int, digest string) {
	tell := func(next docket.Seal, written bool) error {
		return note(w, sealed{number, digest, next.Before, next.Head, next.Links, written})
	}
	d.Witnessed(docket.Witness{
		Announced: func(next docket.Seal) error { return tell(next, false) },
		Written:   func(next docket.Seal) error { return tell(next, true) },
	})
}

// Known refuses a docket that is not one of the workspace, in its place, as the register
// knows it.
func Known(w *workspace.Workspace, d *docket.Docket) error {
	refuse := func(message string) error { return &docket.Error{Path: d.Path(), Message: message} }
	last, err := sealOf(w, d.Header.Number)
	if err != nil {
		return err
	}
	if last.Digest == "" {
		return refuse("this workspace did not make it, so it is neither imported nor taken back here. Its decisions can be read into a docket that is matched here, with: anagram decide --from " + d.Path())
	}
	here, err := os.Stat(w.DocketPath(d.Header.Number))
	if err == nil {
		var it fs.FileInfo
		if it, err = os.Stat(d.Path()); err == nil && os.SameFile(here, it) {
			return nil
		}
	}
	return refuse(fmt.Sprintf("it is a copy. Read its decisions in with: anagram decide %d --from %s", d.Header.Number, d.Path()))
}

// appendTo adds whole lines in one write, so that two programs do not mix theirs. What a
// kill left of a line before is ended.
func appendTo(path string, text []byte, durable bool) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := safe.Append(path)
	if err != nil {
		return err
	}
	if info, err := f.Stat(); err == nil && info.Size() > 0 {
		var end [1]byte
		if _, err := f.ReadAt(end[:], info.Size()-1); err == nil && end[0] != '\n' {
			text = append([]byte{'\n'}, text...)
		}
	} else if err == nil {
		begin, err := beginning()
		if err != nil {
			return errors.Join(err, f.Close())
		}
		text = append(begin, text...)
	}
	_, err = f.Write(text)
	if err == nil && durable {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}
