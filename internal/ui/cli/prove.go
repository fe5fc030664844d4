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
	var keep bool
	cmd := &cobra.Command{
		Use:   "prove [DOCKET]",
		Short: "Look again: is everything as it was approved?",
		Long: `Reads in the target what the imports of a docket wrote, and holds it record by record and
field by field against what was approved: what is as approved, what differs, is gone, or
stands there twice. Then what the docket was about is exported and matched once more, to
say what else moved since and by whom, what was left open, and what differs that did not
then. Nothing is written to an environment, and nothing is left of the export and the
match: --keep makes a parcel and a docket of them. Where no docket is named it is the
newest that was imported. The exit code is 0 where all is as approved, else 3.`,
		Example: "  anagram prove 7\n  anagram prove 7 --keep",
		RunE: a.withImported(func(cmd *cobra.Command, s *session.Session, d *docket.Docket) error {
			if _, _, err := importing.Settle(cmd.Context(), s, d.Header.Target); err != nil && d.Header.TargetParcel == "" {
				return err
			}
			result, err := audit.Prove(cmd.Context(), s, d, keep)
			if err != nil {
				return err
			}
			return present.Proof(a.Page, result)
		}),
	}
	cmd.Flags().BoolVar(&keep, "keep", false, "keep the parcel and the docket that are made to look")
	return cmd
}
