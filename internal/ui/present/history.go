package present

import (
	"context"
	"fmt"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/audit"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// History lists the dockets of a workspace.
func History(a *Page, summaries []register.Entry) error {
	if a.JSON {
		list := wire.History{Dockets: []wire.Docket{}}
		for _, s := range summaries {
			list.Dockets = append(list.Dockets, wire.DocketOf(s))
		}
		return a.PrintJSON(list)
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
		t.Add(fmt.Sprint(s.Header.Number), s.Header.Parcel, s.Header.Target, When(s.Header.MatchedAt), s.Header.MatchedBy,
			outcomeText(s.Summary))
	}
	a.PrintTable(t, "")
	PrintDamaged(a, damaged)
	return nil
}

func outcomeText(s docket.Summary) string {
	// What all imports of the docket wrote together; where none did, how the last ended.
	added, changed, removed, last := 0, 0, 0, ""
	for _, r := range s.Runs {
		if r.Kind == run.FilesRun && r.Outcome == run.WrittenOut && last == "" {
			last = "load files wait"
		}
		if r.Kind == run.ImportRun || r.Kind == run.ConfirmRun {
			added, changed, removed, last = added+r.New, changed+r.Changed, removed+r.Removed, wire.OutcomeOf(r)
		}
	}
	if removed > 0 {
		return fmt.Sprintf("%d new, %d changed, %d removed", added, changed, removed)
	}
	if last != "" && (last == run.Imported || added+changed > 0) {
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

// DocketHistory tells everything that happened to a docket.
func DocketHistory(ctx context.Context, a *Page, d *docket.Docket) error {
	s, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	people, err := d.People(ctx)
	if err != nil {
		return err
	}
	if a.JSON {
		events, err := audit.Events(ctx, d)
		if err != nil {
			return err
		}
		return a.PrintJSON(wire.DocketHistoryOf(s, people, events))
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	Header(a, d.Header)
	Printf(a.Out, "Digest %s\n", digest[:16])
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("Decisions: %s.", TallyText(s.Tally)), ""))
	for _, one := range people {
		named := ""
		if one.Named {
			named = ", under a name that was given"
		}
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s was at work as account %s on %s%s.", one.Who, one.Account, one.Host, named), "  "))
	}
	if err := printEvents(ctx, a, d); err != nil {
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
		cells := []string{r.Kind, When(r.StartedAt), r.Who, wire.OutcomeOf(r), fmt.Sprint(r.New), fmt.Sprint(r.Changed),
			fmt.Sprint(r.LeftOut)}
		if s.Header.Restores != 0 {
			cells = append(cells, fmt.Sprint(r.Removed))
		}
		t.Add(cells...)
	}
	fmt.Fprintln(a.Out)
	a.PrintTable(t, "  ")
	for _, r := range s.Runs {
		if r.Message != "" {
			Printf(a.Out, "\nWhy the %s of %s ended as it did:\n", r.Kind, When(r.StartedAt))
			fmt.Fprintln(a.Out, a.Wrap("  "+strings.ReplaceAll(r.Message, "\n", " "), "  "))
		}
		left, err := run.Outcomes(ctx, d, r.Seq, "left-out")
		if err != nil {
			return err
		}
		if len(left) > 0 {
			Printf(a.Out, "\nLeft out of the %s of %s:\n", r.Kind, When(r.StartedAt))
		}
		for _, o := range left {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("  %s: %s", o.Why, o.Message), "  "))
		}
	}
	return nil
}

// printEvents lists what people did to a docket, in its order.
func printEvents(ctx context.Context, a *Page, d *docket.Docket) error {
	events, err := audit.Events(ctx, d)
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Out)
	for _, e := range events {
		fmt.Fprintln(a.Out, a.Wrap("  "+When(e.At)+"  "+eventText(e), "    "))
	}
	return nil
}

// eventText says what happened, and who did it.
func eventText(e audit.Event) string {
	who := show.Harmless(e.Who)
	switch e.What {
	case "matched":
		return fmt.Sprintf("%s matched: %s", who, Count(e.Records, "finding"))
	case "commented":
		return fmt.Sprintf("%s on %s: %s", who, show.Harmless(e.Addresses[0]), show.Harmless(e.Note))
	case "signed":
		return who + " signed what they decided"
	case "decided":
		if e.Rule {
			who = "by a standing rule"
		}
		text := fmt.Sprintf("%s: %s %s", who, e.Decision, Some(e.Addresses, 3))
		if e.Records > 3 {
			text = fmt.Sprintf("%s: %s %s, such as %s", who, e.Decision, Count(e.Records, "finding"), Some(e.Addresses[:2], 2))
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

// PrintDamaged says what is the matter with dockets that cannot be read, and what to do.
func PrintDamaged(a *Page, list []register.Entry) {
	for _, e := range list {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("Docket %d cannot be read: %s. Bring the file back from a backup, or move it out of dockets/; everything else goes on without it.", e.Header.Number, strings.TrimSuffix(e.Err.Error(), ".")), "  "))
	}
}
