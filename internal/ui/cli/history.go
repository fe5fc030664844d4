package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/store/docket"
	"anagram/internal/store/register"
	"anagram/internal/ui/text"
)

func (a *app) historyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "history [DOCKET]",
		Short: "Show what was brought where, when, by whom, with what outcome",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			if len(given) == 1 {
				_, d, err := a.openDocket(cmd.Context(), given)
				if err != nil {
					return err
				}
				defer d.Close()
				return a.printDocketHistory(cmd.Context(), d)
			}
			s, err := a.session()
			if err != nil {
				return err
			}
			summaries, err := s.Summaries(cmd.Context())
			if err != nil {
				return err
			}
			return a.printHistory(summaries)
		}),
	}
}

func entryJSON(s register.Entry) map[string]any {
	if s.Err != nil {
		return map[string]any{"docket": s.Header.Number, "error": s.Err.Error()}
	}
	return summaryJSON(s.Summary)
}

func summaryJSON(s docket.Summary) map[string]any {
	runs := []map[string]any{}
	for _, r := range s.Runs {
		runs = append(runs, map[string]any{"kind": r.Kind, "by": r.Who, "started_at": r.StartedAt, "ended_at": r.EndedAt, "outcome": outcomeOf(r),
			"new": r.New, "changed": r.Changed, "left_out": r.LeftOut, "message": r.Message})
	}
	return map[string]any{"docket": s.Header.Number, "parcel": s.Header.Parcel, "source": s.Header.Source, "target": s.Header.Target,
		"matched_at": s.Header.MatchedAt, "matched_by": s.Header.MatchedBy, "open": s.Tally.Open, "approved": s.Tally.Approved,
		"declined": s.Tally.Declined, "held": s.Tally.Held, "target_kept": s.Tally.Kept, "runs": runs}
}

// outcomeOf says how a run ended; one without an end was cut off.
func outcomeOf(r docket.Run) string {
	if r.EndedAt == "" && !r.Unsettled() {
		return docket.Interrupted
	}
	return r.Outcome
}

func (a *app) printHistory(summaries []register.Entry) error {
	if a.json {
		list := []map[string]any{}
		for _, s := range summaries {
			list = append(list, entryJSON(s))
		}
		return a.printJSON(map[string]any{"dockets": list})
	}
	if len(summaries) == 0 {
		fmt.Fprintln(a.Out, "There are no dockets yet.")
		return nil
	}
	var damaged []register.Entry
	t := text.Table{Columns: []string{">docket", "parcel", "target", "=matched", "by", "outcome"}}
	for i := len(summaries) - 1; i >= 0; i-- {
		s := summaries[i]
		if s.Err != nil {
			t.Add(fmt.Sprint(s.Header.Number), "cannot be read")
			damaged = append(damaged, s)
			continue
		}
		t.Add(fmt.Sprint(s.Header.Number), s.Header.Parcel, s.Header.Target, when(s.Header.MatchedAt), s.Header.MatchedBy, outcomeText(s.Summary))
	}
	a.printTable(t, "")
	a.printDamaged(damaged)
	return nil
}

func outcomeText(s docket.Summary) string {
	// What all imports of the docket wrote together; where none did, how the last ended.
	added, changed, last := 0, 0, ""
	for _, r := range s.Runs {
		if r.Kind == docket.FilesRun && r.Outcome == docket.WrittenOut && last == "" {
			last = "load files wait"
		}
		if r.Kind == docket.ImportRun || r.Kind == docket.ConfirmRun {
			added, changed, last = added+r.New, changed+r.Changed, outcomeOf(r)
		}
	}
	if last != "" && (last == docket.Imported || added+changed > 0) {
		return fmt.Sprintf("%d new, %d changed", added, changed)
	}
	if last != "" {
		return last
	}
	if s.Tally.Open > 0 {
		return fmt.Sprintf("%d open", s.Tally.Open)
	}
	return "not imported"
}

func (a *app) printDocketHistory(ctx context.Context, d *docket.Docket) error {
	s, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	people, err := d.People(ctx)
	if err != nil {
		return err
	}
	if a.json {
		out := summaryJSON(s)
		out["people"] = append([]docket.Acted{}, people...)
		return a.printJSON(out)
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	a.printHeader(d.Header)
	printf(a.Out, "Digest %s\n", digest[:16])
	printf(a.Out, "Decisions: %s.\n", tallyText(s.Tally))
	for _, one := range people {
		named := ""
		if one.Named {
			named = ", under a name that was given"
		}
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s was at work as account %s on %s%s.", one.Who, one.Account, one.Host, named), "  "))
	}
	if len(s.Runs) == 0 {
		fmt.Fprintln(a.Out, "Nothing of it has been imported or rehearsed.")
		return nil
	}
	t := text.Table{Columns: []string{"what", "=started", "by", "outcome", ">new", ">changed", ">left out"}}
	for _, r := range s.Runs {
		t.Add(r.Kind, when(r.StartedAt), r.Who, outcomeOf(r), fmt.Sprint(r.New), fmt.Sprint(r.Changed), fmt.Sprint(r.LeftOut))
	}
	fmt.Fprintln(a.Out)
	a.printTable(t, "  ")
	for _, r := range s.Runs {
		if r.Message != "" {
			printf(a.Out, "\nWhy the %s of %s ended as it did:\n", r.Kind, when(r.StartedAt))
			fmt.Fprintln(a.Out, a.wrap("  "+strings.ReplaceAll(r.Message, "\n", " "), "  "))
		}
		left, err := d.Outcomes(ctx, r.Seq, "left-out")
		if err != nil {
			return err
		}
		if len(left) > 0 {
			printf(a.Out, "\nLeft out of the %s of %s:\n", r.Kind, when(r.StartedAt))
		}
		for _, o := range left {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("  %s: %s", o.Why, o.Message), "  "))
		}
	}
	return nil
}

// printDamaged says what is the matter with dockets that cannot be read, and what to do.
func (a *app) printDamaged(list []register.Entry) {
	for _, e := range list {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Docket %d cannot be read: %s. Bring the file back from a backup, or move it out of dockets/; everything else goes on without it.", e.Header.Number, strings.TrimSuffix(e.Err.Error(), ".")), "  "))
	}
}
