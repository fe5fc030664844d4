package cli

import (
	"context"
	"fmt"

	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/present"
	"anagram/internal/ui/tui"
)

// reviewOnTerminal reviews a docket on the terminal until the person leaves.
func reviewOnTerminal(ctx context.Context, a *app, s *session.Session, d *docket.Docket) error {
	decided, err := tui.Run(ctx, s, d, tui.Options{In: a.In, Out: a.RawOut, Environ: a.Environ, NoColor: a.NoColor})
	if err != nil {
		return err
	}
	tally, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	if decided > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s decided.", present.Count(decided, "finding")), ""))
	}
	present.Printf(a.Out, "Decisions in docket %d: %s.\n", d.Header.Number, present.TallyText(tally.Tally))
	present.NextStep(ctx, a.Page, s, tally)
	return nil
}
