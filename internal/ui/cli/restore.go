package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/flow/restore"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/present"
)

func restoreCommand(a *app) *cobra.Command {
	var only []string
	cmd := &cobra.Command{
		Use:   "restore [DOCKET]",
		Short: "Make a docket that takes an import back",
		Long: `Matches what the target held before the import of a docket with what it holds now,
and makes a docket of the differences. It is reviewed, approved and imported like
any other: nothing is written before. Fields that somebody changed since the import
are conflicts; what else was edited stays. Records that the import made can be
removed, where they are as it made them and nothing refers to them; name each, or
approve them with --take source.`,
		Example: "  anagram restore 7\n  anagram restore 7 --record assay/GLU",
		RunE: a.withImported(func(cmd *cobra.Command, s *session.Session, d *docket.Docket) error {
			result, err := restore.Restore(cmd.Context(), s, d, only)
			if err != nil {
				return err
			}
			if !a.JSON {
				a.Note("%s",
					fmt.Sprintf("Docket %d takes back what the import of docket %d wrote: %s. Nothing is written until it is approved and imported.", result.Header.Number, result.Restores, present.Count(result.Records, "record")))
			}
			return present.Match(a.Page, result.Result, nil)
		}),
	}
	cmd.Flags().StringArrayVar(&only, "record", nil, "only the record with this address, or those of a pattern; may be repeated")
	return cmd
}
