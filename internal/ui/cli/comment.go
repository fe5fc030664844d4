package cli

import (
	"github.com/spf13/cobra"

	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
)

func (a *app) commentCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "comment [DOCKET] RECORD TEXT",
		Short: "Ask or answer something on a finding, without deciding it",
		Example: "  anagram comment assay/FCAL \"Which kit will be used?\"\n" +
			"  anagram comment 7 assay/FCAL \"The one of the central laboratory.\"",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
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
			address, err := decide.Comment(cmd.Context(), s, d, given[0], given[1])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"docket": d.Header.Number, "address": address, "by": s.Who, "text": given[1]})
			}
			printf(a.Out, "Kept with %s in docket %d.\n", address, d.Header.Number)
			return nil
		}),
	}
}
