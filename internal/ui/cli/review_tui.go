package cli

import (
	"context"
	"fmt"
	"os"

	"golang.org/x/term"

	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/tui"
)

// interactive reports whether a person is at a terminal that can show the interactive review.
func (a *app) interactive() bool {
	in, isIn := a.In.(*os.File)
	out, isOut := a.rawOut.(*os.File)
	return isIn && isOut && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd())) && a.env("TERM") != "dumb"
}

// reviewOnTerminal reviews a docket on the terminal until the person leaves.
func (a *app) reviewOnTerminal(ctx context.Context, s *session.Session, d *docket.Docket) error {
	decided, err := tui.Run(ctx, s, d, tui.Options{In: a.In, Out: a.rawOut, Environ: a.Environ, NoColor: a.noColor})
	if err != nil {
		return err
	}
	tally, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	if decided > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s decided.", count(decided, "finding")), ""))
	}
	printf(a.Out, "Decisions in docket %d: %s.\n", d.Header.Number, tallyText(tally.Tally))
	a.nextStep(tally)
	return nil
}
