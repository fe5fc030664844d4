package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/files/safe"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/history"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
	"anagram/internal/ui/report"
	"anagram/internal/ui/text"
)

func (a *app) historyCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "history [DOCKET | ADDRESS]",
		Short: "Show what was brought where, when, by whom, with what outcome",
		Long: `Lists the dockets of the workspace and what became of them. Of a docket it tells all
that happened to it; --out FILE.html writes that, with every finding, as one page for
somebody who has only that. Of a record's address it tells its life over all dockets:
when it came, what changed, who approved it, where it stands.`,
		Example: "  anagram history\n  anagram history 7 --out docket-7.html\n  anagram history assay/GLU",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			switch {
			case len(given) == 1 && a.isAddress(given[0]):
				if out != "" {
					return &session.UsageError{Message: "--out writes the history of a docket; of a record it is printed"}
				}
				s, err := a.session()
				if err != nil {
					return err
				}
				return a.printLife(cmd.Context(), s, given[0])
			case len(given) == 1:
				s, d, err := a.openDocket(cmd.Context(), given)
				if err != nil {
					return err
				}
				defer d.Close()
				if out != "" {
					return a.writeHistory(cmd.Context(), s, d, out)
				}
				return a.printDocketHistory(cmd.Context(), d)
			case out != "":
				return &session.UsageError{Message: "--out writes the history of one docket; name it, such as: anagram history 7 --out docket-7.html"}
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
	cmd.Flags().StringVar(&out, "out", "", "write all of a docket's history into a new page, FILE.html")
	return cmd
}

// isAddress reports whether a word names a record, not a docket.
func (a *app) isAddress(word string) bool {
	if !strings.Contains(word, "/") || strings.HasSuffix(word, ".docket") {
		return false
	}
	_, err := os.Stat(a.path(word))
	return err != nil
}

// writeHistory writes all of a docket into one page.
func (a *app) writeHistory(ctx context.Context, s *session.Session, d *docket.Docket, name string) error {
	if !strings.EqualFold(filepath.Ext(name), ".html") {
		return &session.UsageError{Message: "--out writes a page; let its name end in .html"}
	}
	events, err := history.Events(ctx, d)
	if err != nil {
		return err
	}
	summary, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	people, err := d.People(ctx)
	if err != nil {
		return err
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	head, err := d.Head(ctx)
	if err != nil {
		return err
	}
	r := report.History{Docket: d, Digest: digest, Head: head.Head, Links: head.Links, Tally: summary.Tally, Runs: summary.Runs, Events: events, People: people, Made: docket.Stamp(a.Now()), By: a.who()}
	r.Each = func(ctx context.Context, give func(decide.Reviewed) error) error {
		return decide.Review(ctx, s, d, decide.Which{}, give)
	}
	if err := a.newFile(name, func(out io.Writer) error { return r.Write(ctx, out) }); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"docket": d.Header.Number, "file": a.path(name)})
	}
	fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("The history of docket %d was written into %s. It can be read by whoever has only that file.", d.Header.Number, name), ""))
	return nil
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
			"new": r.New, "changed": r.Changed, "removed": r.Removed, "left_out": r.LeftOut, "message": r.Message})
	}
	return map[string]any{"docket": s.Header.Number, "parcel": s.Header.Parcel, "source": s.Header.Source, "target": s.Header.Target,
		"matched_at": s.Header.MatchedAt, "matched_by": s.Header.MatchedBy, "open": s.Tally.Open, "approved": s.Tally.Approved,
		"declined": s.Tally.Declined, "held": s.Tally.Held, "target_kept": s.Tally.Kept, "restores": s.Header.Restores, "runs": runs}
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
	added, changed, removed, last := 0, 0, 0, ""
	for _, r := range s.Runs {
		if r.Kind == docket.FilesRun && r.Outcome == docket.WrittenOut && last == "" {
			last = "load files wait"
		}
		if r.Kind == docket.ImportRun || r.Kind == docket.ConfirmRun {
			added, changed, removed, last = added+r.New, changed+r.Changed, removed+r.Removed, outcomeOf(r)
		}
	}
	if removed > 0 {
		return fmt.Sprintf("%d new, %d changed, %d removed", added, changed, removed)
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
		if out["events"], err = history.Events(ctx, d); err != nil {
			return err
		}
		return a.printJSON(out)
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	a.printHeader(d.Header)
	printf(a.Out, "Digest %s\n", digest[:16])
	fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Decisions: %s.", tallyText(s.Tally)), ""))
	for _, one := range people {
		named := ""
		if one.Named {
			named = ", under a name that was given"
		}
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s was at work as account %s on %s%s.", one.Who, one.Account, one.Host, named), "  "))
	}
	if err := a.printEvents(ctx, d); err != nil {
		return err
	}
	if len(s.Runs) == 0 {
		fmt.Fprintln(a.Out, "\nNothing of it has been imported or rehearsed.")
		return nil
	}
	t := text.Table{Columns: []string{"what", "=started", "by", "outcome", ">new", ">changed", ">left out"}}
	if s.Header.Restores != 0 {
		t.Columns = append(t.Columns, ">removed")
	}
	for _, r := range s.Runs {
		cells := []string{r.Kind, when(r.StartedAt), r.Who, outcomeOf(r), fmt.Sprint(r.New), fmt.Sprint(r.Changed), fmt.Sprint(r.LeftOut)}
		if s.Header.Restores != 0 {
			cells = append(cells, fmt.Sprint(r.Removed))
		}
		t.Add(cells...)
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

// printEvents lists what people did to a docket, in its order.
func (a *app) printEvents(ctx context.Context, d *docket.Docket) error {
	events, err := history.Events(ctx, d)
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Out)
	for _, e := range events {
		fmt.Fprintln(a.Out, a.wrap("  "+when(e.At)+"  "+eventText(e), "    "))
	}
	return nil
}

// eventText says what happened, and who did it.
func eventText(e history.Event) string {
	who := show.Harmless(e.Who)
	switch e.What {
	case "matched":
		return fmt.Sprintf("%s matched: %s", who, count(e.Records, "finding"))
	case "commented":
		return fmt.Sprintf("%s on %s: %s", who, show.Harmless(e.Addresses[0]), show.Harmless(e.Note))
	case "signed":
		return who + " signed what they decided"
	case "decided":
		if e.Rule {
			who = "by a standing rule"
		}
		text := fmt.Sprintf("%s: %s %s", who, e.Decision, some(e.Addresses, 3))
		if e.Records > 3 {
			text = fmt.Sprintf("%s: %s %s, such as %s", who, e.Decision, count(e.Records, "finding"), some(e.Addresses[:2], 2))
		}
		if e.Carried != 0 {
			text += fmt.Sprintf(", carried over from docket %d", e.Carried)
		}
		if e.Note != "" {
			text += ": " + show.Harmless(e.Note)
		}
		return text
	default:
		return fmt.Sprintf("%s, %s: %s", e.What, who, e.Outcome)
	}
}

// printDamaged says what is the matter with dockets that cannot be read, and what to do.
func (a *app) printDamaged(list []register.Entry) {
	for _, e := range list {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Docket %d cannot be read: %s. Bring the file back from a backup, or move it out of dockets/; everything else goes on without it.", e.Header.Number, strings.TrimSuffix(e.Err.Error(), ".")), "  "))
	}
}

// newFile fills a file that is not there yet.
func (a *app) newFile(name string, fill func(io.Writer) error) error {
	err := safe.WriteNew(a.path(name), fill)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &session.UsageError{Message: "the folder of " + name + " is not there; nothing was written"}
	case errors.Is(err, fs.ErrExist):
		return &session.UsageError{Message: name + " is there already; name a new file"}
	}
	return err
}
