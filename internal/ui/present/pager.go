package present

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"runtime"

	"golang.org/x/term"

	"anagram/internal/ui/text"
)

// height is how many lines of text fit on the screen; where there is none, as many as on a
// small one.
func (a *Page) height() int {
	if a.lines > 0 {
		return a.lines
	}
	if f, ok := a.RawOut.(*os.File); ok {
		if _, h, err := term.GetSize(int(f.Fd())); err == nil && h > 0 {
			return max(h-2, 10)
		}
	}
	return 40
}

// Paged runs what prints a long text through the person's own pager, where the output is a
// terminal and PAGER names one. What is told beside the result comes after it.
func (a *Page) Paged(ctx context.Context, do func() error) error {
	command := a.Env("PAGER")
	f, ok := a.RawOut.(*os.File)
	if !ok || command == "" || runtime.GOOS == "windows" || !term.IsTerminal(int(f.Fd())) {
		return do()
	}
	pager := exec.CommandContext(ctx, "sh", "-c", command) // #nosec G204 -- the person's own choice, from their own environment
	pager.Env, pager.Stdout, pager.Stderr = a.Environ, f, os.Stderr
	if a.Env("LESS") == "" {
		pager.Env = append(append([]string{}, a.Environ...), "LESS=FRX")
	}
	in, err := pager.StdinPipe()
	if err == nil {
		err = pager.Start()
	}
	if err != nil {
		a.Note("The pager %s cannot be started: %v", command, err)
		return do()
	}
	narrow := *a
	var later bytes.Buffer
	narrow.screen, narrow.lines = a.Width(), a.height()
	narrow.RawOut, narrow.Out, narrow.Err = in, text.NewScreen(in), text.NewScreen(&later)
	err = through(a, narrow, do)
	_ = in.Close()
	ended := pager.Wait() // who leaves a pager early has seen enough
	if exit := new(exec.ExitError); errors.As(ended, &exit) && (exit.ExitCode() == 126 || exit.ExitCode() == 127) {
		return do() // there is no such pager, as the shell has said
	}
	_, _ = a.RawErr.Write(later.Bytes())
	return err
}

// through runs something with other streams.
func through(p *Page, other Page, do func() error) error {
	was := *p
	*p = other
	defer func() {
		p.RawOut, p.Out, p.Err, p.screen, p.lines = was.RawOut, was.Out, was.Err, was.screen, was.lines
	}()
	return do()
}
