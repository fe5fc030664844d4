package cli

import (
	"github.com/spf13/cobra"

	"anagram/internal/flow/audit"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/present"
)

func proveCommand(a *app) *cobra.Command {
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
			result, err := audit.Prove(cmd.Context(), s, d)
			if err != nil {
				return err
			}
			return present.Proof(a.Page, result)
		}),
	}
}
