package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
	"anagram/internal/ui/text"
)

func (a *app) statusCommand() *cobra.Command {
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
				return a.printWhereabouts(cmd.Context(), s, given[0], ask)
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
			if a.json {
				doc := map[string]any{"workspace": s.Workspace.Dir, "environments": len(s.Workspace.Environments), "parcels": len(parcels), "dockets": len(summaries)}
				if n := len(summaries); n > 0 {
					doc["newest_docket"] = entryJSON(summaries[n-1])
				}
				doc["waiting"] = waitingJSON(s, summaries)
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
			a.printWaiting(s, sound)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&ask, "ask", false, "look at the environments, of a parcel")
	return cmd
}

// printWaiting lists the dockets that wait for something, the newest first, or says of the
// newest how it ended.
func (a *app) printWaiting(s *session.Session, sound []register.Entry) {
	t := text.Table{Columns: []string{">docket", "from", "to", "matched", "waits for"}}
	seen, back := map[[2]string]bool{}, session.TakenBack(register.PastsOf(sound))
	var next *docket.Summary
	for _, e := range slices.Backward(sound) {
		h := e.Header
		if !s.Imports(h) {
			continue
		}
		pair := [2]string{h.Source, h.Target}
		what := waitsFor(s, e.Summary, seen[pair], back[h.Number])
		seen[pair] = true
		if next == nil {
			next = &e.Summary
		}
		if what != "" {
			t.Add(strconv.Itoa(h.Number), h.Source, h.Target, when(h.MatchedAt), what)
		}
	}
	if t.Rows() > 0 {
		fmt.Fprintln(a.Out)
		a.printTable(t, "")
	}
	if next == nil {
		a.note("No docket is one that could be imported.")
		return
	}
	fmt.Fprintln(a.Out)
	printf(a.Out, "docket %-6d %s to %s, matched %s: %s\n", next.Header.Number, next.Header.Source, next.Header.Target, when(next.Header.MatchedAt), outcomeText(*next))
	printf(a.Out, "decisions     %s\n", tallyText(next.Tally))
	if next.Tally.Open > next.Tally.Stuck {
		a.next(fmt.Sprintf("anagram review %d --decision open", next.Header.Number))
		return
	}
	a.nextStep(*next)
}

// waitsFor says what a docket waits for and whose turn it is; "" where it waits for nothing.
// What is open in a docket that a newer one of the same way has overtaken waits no more.
func waitsFor(s *session.Session, of docket.Summary, overtaken, takenBack bool) string {
	imported := slices.ContainsFunc(of.Runs, docket.Run.Done)
	if _, unknown := docket.LastUnsettled(of.Runs); unknown {
		return fmt.Sprintf("its import to be settled: anagram import %d", of.Header.Number)
	}
	if _, half := docket.LastUnfinished(of.Runs); half && !takenBack {
		return fmt.Sprintf("its import to be finished: anagram import %d --resume", of.Header.Number)
	}
	var parts []string
	if open := of.Tally.Open - of.Tally.Stuck; open > 0 && !overtaken {
		what := count(open, "decision")
		if e, err := s.Workspace.Environment(of.Header.Target); err == nil && len(e.Approvers) > 0 {
			what += " of " + some(people(e.Approvers), 5)
		}
		parts = append(parts, what)
	}
	switch {
	case docket.LoadsWait(of.Runs):
		parts = append(parts, "its load files to be loaded and matched")
	case of.Tally.Approved > 0 && !imported:
		parts = append(parts, fmt.Sprintf("import of %s", count(of.Tally.Approved, "approved record")))
	}
	return strings.Join(parts, "; ")
}

func people(approvers map[string][]string) []string {
	var out []string
	for _, names := range approvers {
		out = append(out, names...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func waitingJSON(s *session.Session, entries []register.Entry) []map[string]any {
	out := []map[string]any{}
	seen, back := map[[2]string]bool{}, session.TakenBack(register.PastsOf(entries))
	for _, e := range slices.Backward(entries) {
		if e.Err != nil || !s.Imports(e.Header) {
			continue
		}
		pair := [2]string{e.Header.Source, e.Header.Target}
		if what := waitsFor(s, e.Summary, seen[pair], back[e.Header.Number]); what != "" {
			out = append(out, map[string]any{"docket": e.Header.Number, "source": e.Header.Source, "target": e.Header.Target, "waits_for": what})
		}
		seen[pair] = true
	}
	return out
}
