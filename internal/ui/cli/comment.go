package cli

import (
	"context"

	"github.com/spf13/cobra"

	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func commentCommand(a *app) *cobra.Command {
	to, withdraw := "", false
	cmd := &cobra.Command{
		Use:   "comment [DOCKET] RECORD TEXT",
		Short: "Ask or answer something on a finding, without deciding it",
		Example: "  anagram comment assay/FCAL \"Which kit will be used?\"\n" +
			"  anagram comment 7 assay/FCAL \"The one of the central laboratory.\"\n" +
			"  anagram comment assay/FCAL \"Is this right?\" --to ida",
		Long: `Keeps a question or an answer with a finding, for all who review it. With --to it waits for
that person: their status shows it, and review --waits-for lists the finding, until they
comment or decide on it, or whoever asked says --withdraw.`,
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if withdraw {
				return withdrawn(cmd.Context(), a, given)
			}
			if err := arguments(cmd, given, 2, 3); err != nil {
				return err
			}
			if len(given) == 2 && isDocket(given[0]) {
				return &session.UsageError{Message: "say on which record, and what: anagram comment " + given[0] + " RECORD TEXT"}
			}
			var which []string
			if len(given) == 3 {
				which, given = given[:1], given[1:]
			}
			s, d, err := a.openDocket(cmd.Context(), which)
			if err != nil {
				return err
			}
			defer d.Close()
			address, err := decide.Comment(cmd.Context(), s, d, given[0], given[1], to)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Commented{Docket: d.Header.Number, Address: address, By: s.Who, Text: given[1], To: to})
			}
			present.Printf(a.Out, "Kept with %s in docket %d.\n", address, d.Header.Number)
			return nil
		}),
	}
	cmd.Flags().StringVar(&to, "to", "", "who is asked: it waits for their answer")
	cmd.Flags().BoolVar(&withdraw, "withdraw", false, "what you asked about the record waits for nobody any more")
	return cmd
}

// withdrawn takes back what was asked about a record.
func withdrawn(ctx context.Context, a *app, given []string) error {
	var which []string
	if len(given) == 2 {
		which, given = given[:1], given[1:]
	}
	if len(given) != 1 {
		return &session.UsageError{Message: "--withdraw goes with one record and nothing else, such as: anagram comment assay/FCAL --withdraw"}
	}
	s, d, err := a.openDocket(ctx, which)
	if err != nil {
		return err
	}
	defer d.Close()
	address, err := decide.Withdraw(ctx, s, d, given[0])
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.Commented{Docket: d.Header.Number, Address: address, By: s.Who, Text: "withdrawn"})
	}
	present.Printf(a.Out, "What %s asked about %s in docket %d waits for nobody any more.\n", s.Who, address, d.Header.Number)
	return nil
}
