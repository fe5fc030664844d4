package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/flow/export"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/library"
	"anagram/internal/flow/loadfiles"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
)

func matchCommand(a *app) *cobra.Command {
	var r present.Asked
	var against, agreed string
	cmd := &cobra.Command{
		Use:   "match P --against ENV_OR_PARCEL",
		Short: "Compare a parcel with an environment or another parcel, by key",
		Long: `Compares the records of a parcel with those of an environment, by key, and makes
a docket of what differs. Nothing is written to the environment. P is the name of a
parcel, a path to one, - for one on standard input, or an environment, which is then
exported first. With a parcel to compare with, neither side needs to be reached.`,
		Example: "  anagram match january --against production\n  anagram match sandbox --against production --area prices",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if against == "" {
				return &session.UsageError{Message: "match needs --against, the environment or parcel to compare with"}
			}
			name := given[0]
			if name == "-" {
				received, err := library.Receive(cmd.Context(), s, a.In)
				if err != nil {
					return err
				}
				a.Note("Kept the parcel from standard input in the library as %s.", received)
				name = received
			}
			if _, err := s.Workspace.Environment(name); err == nil {
				if err := matching.CanMatch(s, name, against); err != nil {
					return err
				}
				r.Environment, r.Target = name, against
				request, err := a.request(s, &r)
				if err != nil {
					return err
				}
				exported, err := export.Export(cmd.Context(), s, request)
				if err != nil {
					return withoutMissing(a, err, request.Selection.Saved)
				}
				if err := keep(a, s, &r, request); err != nil {
					return err
				}
				name = exported.Manifest.Name
				a.Note("Exported %s from %s into parcel %s.", present.Count(exported.Manifest.Records(), "record"), r.Environment, name)
			} else if flag := firstChanged(cmd, exportFlags...); flag != "" {
				return &session.UsageError{Message: fmt.Sprintf("--%s is for an export; %s is no environment, so nothing is exported. Leave it out", flag, name)}
			}
			// What is known of the target comes first.
			if _, err := s.Workspace.Environment(against); err == nil {
				settled, due, err := importing.Settle(cmd.Context(), s, against)
				if err != nil {
					return err
				}
				for _, number := range due {
					a.Note("%s", present.DueText(number, against))
				}
				for _, one := range settled {
					a.Note("%s", present.SettledText(one, against))
				}
			}
			result, err := matching.Match(cmd.Context(), s, matching.Request{Parcel: name, Against: against, Agreed: agreed,
				Fresh: r.Environment != ""})
			if err != nil {
				return err
			}
			var loads []loadfiles.Confirmation
			if result.Header.TargetParcel == "" {
				if loads, err = loadfiles.Confirm(cmd.Context(), s, result.Header.Target); err != nil {
					return err
				}
			}
			return present.Match(a.Page, result, loads)
		}),
	}
	selectionFlags(cmd, &r)
	cmd.Flags().StringVar(&agreed, "agreed", "", "a parcel with what both sides last had in common (else what was remembered)")
	cmd.Flags().StringVar(&against, "against", "", "the environment or parcel to compare with")
	return cmd
}

func firstChanged(cmd *cobra.Command, names ...string) string {
	for _, name := range names {
		if cmd.Flags().Changed(name) {
			return name
		}
	}
	return ""
}
