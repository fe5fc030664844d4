package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/register"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func statusCommand(a *app) *cobra.Command {
	ask := false
	cmd := &cobra.Command{
		Use:   "status [PARCEL]",
		Short: "Show where everything stands, and the next sensible command",
		Long: `Shows where everything stands, and the next sensible command. Of a parcel it shows for
each environment, from what is remembered, whether its records are there, when they
came and what was left out; --ask looks at the environments.`,
		Example: "  anagram status\n  anagram status january --ask",
		RunE: a.step(0, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			switch {
			case len(given) == 1:
				return present.Whereabouts(cmd.Context(), a.Page, s, given[0], ask)
			case ask:
				return &session.UsageError{Message: "--ask is about one parcel; name it, such as: anagram status january --ask"}
			}
			parcels, err := library.List(s)
			if err != nil {
				return err
			}
			summaries, err := s.Summaries(cmd.Context())
			if err != nil {
				return err
			}
			if a.JSON {
				waits, err := waiting(cmd.Context(), s, summaries)
				if err != nil {
					return err
				}
				doc := wire.Status{Workspace: s.Workspace.Dir, Environments: len(s.Workspace.Environments), Parcels: len(parcels),
					Dockets: len(summaries), Waiting: waits, Cautions: present.Cautions(s.Workspace)}
				if n := len(summaries); n > 0 {
					newest := wire.DocketOf(summaries[n-1])
					doc.NewestDocket = &newest
				}
				return a.PrintJSON(doc)
			}
			out := a.Out
			present.Printf(out, "workspace     %s\n", s.Workspace.Dir)
			names := ""
			for i, e := range s.Workspace.Environments {
				if i > 0 {
					names += ", "
				}
				names += e.Name
			}
			present.Printf(out, "environments  %s\n", names)
			for _, caution := range present.Cautions(s.Workspace) {
				fmt.Fprintln(out, a.Wrap("caution       "+show.Harmless(caution), "              "))
			}
			newest := "none"
			if len(parcels) > 0 {
				newest = fmt.Sprintf("%d, newest %s", len(parcels), parcels[0].Name)
				if parcels[0].Err == nil {
					newest += ", exported " + present.When(parcels[0].Manifest.ExportedAt)
				}
			}
			present.Printf(out, "parcels       %s\n", newest)
			if len(summaries) == 0 {
				fmt.Fprintln(out, "dockets       none")
				if len(parcels) > 0 {
					a.Next("anagram match", present.Arg(parcels[0].Name), "--against ENVIRONMENT")
				} else if len(s.Workspace.Environments) > 0 {
					a.Next("anagram export", present.Arg(s.Workspace.Environments[0].Name))
				}
				return nil
			}
			newestDocket := summaries[len(summaries)-1].Header.Number
			present.Printf(out, "dockets       %d, newest %d\n", len(summaries), newestDocket)
			var damaged, sound []register.Entry
			for _, e := range summaries {
				if e.Err != nil {
					damaged = append(damaged, e)
				} else {
					sound = append(sound, e)
				}
			}
			present.PrintDamaged(a.Page, damaged)
			if len(sound) == 0 {
				return nil
			}
			return present.Waiting(cmd.Context(), a.Page, s, sound)
		}),
	}
	cmd.Flags().BoolVar(&ask, "ask", false, "look at the environments, of a parcel")
	return cmd
}

func waiting(ctx context.Context, s *session.Session, entries []register.Entry) ([]wire.Waiting, error) {
	out := []wire.Waiting{}
	seen, back := map[[2]string]bool{}, session.TakenBack(register.PastsOf(entries))
	for _, e := range slices.Backward(entries) {
		if e.Err != nil || !s.Imports(e.Header) {
			continue
		}
		pair := [2]string{e.Header.Source, e.Header.Target}
		lacking, yours, err := decide.Lacking(ctx, s, e.Summary, seen[pair])
		if err != nil {
			return nil, err
		}
		if what := present.WaitsFor(s, e.Summary, seen[pair], back[e.Header.Number], lacking); what != "" {
			h := e.Header
			out = append(out, wire.Waiting{Docket: h.Number, Source: h.Source, Target: h.Target, WaitsFor: what, Yours: yours})
		}
		seen[pair] = true
	}
	return out, nil
}
