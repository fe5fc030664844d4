package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/register"
)

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "status",
		Short: "Show where everything stands, and the next sensible command",
		RunE: a.step(0, 0, func(cmd *cobra.Command, s *session.Session, _ []string) error {
			parcels, err := library.List(s)
			if err != nil {
				return err
			}
			summaries, err := s.Summaries(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				doc := map[string]any{"workspace": s.Workspace.Dir, "environments": len(s.Workspace.Environments), "parcels": len(parcels), "dockets": len(summaries)}
				if n := len(summaries); n > 0 {
					doc["newest_docket"] = entryJSON(summaries[n-1])
				}
				return a.printJSON(doc)
			}
			out := a.Out
			printf(out, "workspace     %s\n", s.Workspace.Dir)
			names := ""
			for i, e := range s.Workspace.Environments {
				if i > 0 {
					names += ", "
				}
				names += e.Name
			}
			printf(out, "environments  %s\n", names)
			newest := "none"
			if len(parcels) > 0 {
				newest = fmt.Sprintf("%d, newest %s", len(parcels), parcels[0].Name)
				if parcels[0].Err == nil {
					newest += ", exported " + when(parcels[0].Manifest.ExportedAt)
				}
			}
			printf(out, "parcels       %s\n", newest)
			if len(summaries) == 0 {
				fmt.Fprintln(out, "dockets       none")
				if len(parcels) > 0 {
					a.next("anagram match", arg(parcels[0].Name), "--against ENVIRONMENT")
				} else if len(s.Workspace.Environments) > 0 {
					a.next("anagram export", arg(s.Workspace.Environments[0].Name))
				}
				return nil
			}
			newestDocket := summaries[len(summaries)-1].Header.Number
			printf(out, "dockets       %d, newest %d\n", len(summaries), newestDocket)
			var damaged, sound []register.Entry
			for _, e := range summaries {
				if e.Err != nil {
					damaged = append(damaged, e)
				} else {
					sound = append(sound, e)
				}
			}
			a.printDamaged(damaged)
			if len(sound) == 0 {
				return nil
			}
			last := sound[len(sound)-1].Summary
			printf(out, "docket %-6d %s to %s, matched %s: %s\n", last.Header.Number, last.Header.Source, last.Header.Target, when(last.Header.MatchedAt), outcomeText(last))
			printf(out, "decisions     %s\n", tallyText(last.Tally))
			a.nextStep(last)
			return nil
		}),
	}
}
