package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/prove"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

func (a *app) proveCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "prove [DOCKET]",
		Short: "Look again: is everything as it was approved?",
		Long: `Exports what a docket was about from its source once more and matches it with the
target, which makes a parcel and a docket of their own. Says in one screen what of the
import is as it was approved, what moved since, what was left open, and what differs
that did not then. Nothing is written to an environment.`,
		Example: "  anagram prove 7",
		RunE: a.withDocket(func(cmd *cobra.Command, s *session.Session, d *docket.Docket) error {
			if _, _, err := importing.Settle(cmd.Context(), s, d.Header.Target); err != nil && d.Header.TargetParcel == "" {
				return err
			}
			result, err := prove.Prove(cmd.Context(), s, d)
			if err != nil {
				return err
			}
			return a.printProof(result)
		}),
	}
}

func (a *app) printProof(r prove.Result) error {
	a.result = r
	if a.json {
		return a.printJSON(map[string]any{"docket": r.Header.Number, "looked_with": r.Docket, "imported": r.Imported, "as_approved": r.AsApproved, "sound": r.Sound(),
			"moved": append([]prove.Moved{}, r.Moved...), "left_open": append([]prove.Left{}, r.Open...), "settled": r.Settled, "new_differences": append([]string{}, r.Since...)})
	}
	h := r.Header
	out := a.out()
	printf(out, "%s\n", strong.Render(fmt.Sprintf("Docket %d, %s to %s, looked at again", h.Number, h.Source, h.Target)))
	line := func(what string, n int) { printf(out, "  %-14s %6d\n", what, n) }
	const most = 8
	list := func(n int, text func(int) string) {
		for i := range min(n, most) {
			fmt.Fprintln(out, a.wrap("    "+text(i), "      "))
		}
		if n > most {
			printf(out, "    and %d more\n", n-most)
		}
	}
	line("imported", r.Imported)
	line("as approved", r.AsApproved)
	line("moved since", len(r.Moved))
	list(len(r.Moved), func(i int) string { return show.Harmless(r.Moved[i].Address) + ": " + r.Moved[i].What })
	line("left open", len(r.Open))
	list(len(r.Open), func(i int) string { return show.Harmless(r.Open[i].Address) + ": " + r.Open[i].Why })
	if r.Settled > 0 {
		line("settled since", r.Settled)
	}
	line("new since", len(r.Since))
	list(len(r.Since), func(i int) string { return show.Harmless(r.Since[i]) })
	switch {
	case r.Sound():
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("Everything that docket %d brought is as it was approved, and nothing else differs.", h.Number), ""))
	case len(r.Moved) == 0:
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("Everything that docket %d brought is as it was approved.", h.Number), ""))
	}
	if r.Docket != 0 && !r.Sound() {
		a.next(strings.TrimSpace(fmt.Sprintf("anagram review %d", r.Docket)))
	}
	return nil
}
