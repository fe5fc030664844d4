package cli

import (
	"github.com/spf13/cobra"

	"anagram/internal/flow/renew"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
)

func envRenewedCommand(a *app) *cobra.Command {
	var r renew.Request
	cmd := &cobra.Command{
		Use:   "renewed NAME --from ENVIRONMENT --on DATE",
		Short: "Say that an environment was made anew, as a copy of another one",
		Long: `Says that an environment was made anew as a copy of another one. Writes made_from into
anagram.yaml, forgets what the old one had in common with others (or, with --parcel, takes
it from a parcel of the other one of that time), declines what is open in its dockets, and
lists from its last parcel what the old one had and the new one lacks. A date means its end
in the zone of the environment. Nothing is written to an environment.`,
		Example: "  anagram env renewed sandbox --from production --on 2026-12-01\n  anagram env renewed sandbox --from production --on 2026-12-01T06:00:00+01:00 --parcel backup",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if r.Environment = given[0]; r.From == "" || r.On == "" {
				return session.Usage("Say from which environment, and when: anagram env renewed %s --from ENVIRONMENT --on DATE", given[0])
			}
			result, err := renew.Renew(cmd.Context(), s, r)
			if err != nil {
				return err
			}
			return present.Renewed(a.Page, result)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&r.From, "from", "", "the environment that it was copied from")
	flags.StringVar(&r.On, "on", "", "when: a date, or a time such as 2026-12-01T06:00:00+01:00")
	flags.StringVar(&r.Parcel, "parcel", "", "a parcel of the other environment of that time, which tells what both have in common")
	return cmd
}
