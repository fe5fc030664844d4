package present

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/text"
)

// Cautions tells what in the description of a workspace makes less of its guards than it looks.
func Cautions(w *workspace.Workspace) []string {
	var out []string
	for _, e := range w.Environments {
		if w.AnyName(e) {
			out = append(out, fmt.Sprintf("%s counts people by name, and any name counts: list whose approvals do under people: in anagram.yaml", e.Name))
		}
	}
	return out
}

// Waiting lists the dockets that wait for something, the newest first, or says of the
// newest how it ended.
func Waiting(ctx context.Context, a *Page, s *session.Session, sound []register.Entry) error {
	t := text.Table{Columns: []string{">docket", "from", "to", "matched", "waits for"}}
	seen, back := map[[2]string]bool{}, session.TakenBack(register.PastsOf(sound))
	var next *docket.Summary
	forYou, lacks := 0, 0
	for _, e := range slices.Backward(sound) {
		h := e.Header
		if !s.Imports(h) {
			continue
		}
		pair := [2]string{h.Source, h.Target}
		lacking, yours, err := decide.Lacking(ctx, s, e.Summary, seen[pair])
		if err != nil {
			return err
		}
		what := WaitsFor(s, e.Summary, seen[pair], back[h.Number], lacking)
		seen[pair] = true
		if next == nil {
			next, forYou, lacks = &e.Summary, yours, lacking
		}
		if what != "" {
			t.Add(strconv.Itoa(h.Number), h.Source, h.Target, When(h.MatchedAt), what)
		}
	}
	if t.Rows() > 0 {
		fmt.Fprintln(a.Out)
		a.PrintTable(t, "")
	}
	if next == nil {
		a.Note("No docket is one that could be imported.")
		return nil
	}
	fmt.Fprintln(a.Out)
	Printf(a.Out, "docket %-6d %s to %s, matched %s: %s\n", next.Header.Number, next.Header.Source, next.Header.Target,
		When(next.Header.MatchedAt), outcomeText(*next))
	Printf(a.Out, "decisions     %s\n", TallyText(next.Tally))
	if err := asked(ctx, a, s, next.Header.Number); err != nil {
		return err
	}
	if forYou > 0 {
		Printf(a.Out, "for you       %s\n", show.Count(forYou, "finding waits for your word", "findings wait for your word"))
		a.Next(fmt.Sprintf("anagram review %d --waits-for me", next.Header.Number))
		return nil
	}
	if next.Tally.Open > next.Tally.Stuck && !next.Earlier {
		a.Next(fmt.Sprintf("anagram review %d --decision open", next.Header.Number))
		return nil
	}
	if lacks > 0 && lacks == next.Tally.Approved {
		a.Next(fmt.Sprintf("anagram review %d --decision waiting", next.Header.Number)) // others have to approve it as well
		return nil
	}
	NextStep(ctx, a, s, *next)
	return nil
}

// WaitsFor says what a docket waits for and whose turn it is; "" where it waits for nothing.
// What is open in a docket that a newer one of the same way has overtaken waits no more. Lacking is
// how many of its approved records have fewer approvals than the target demands.
func WaitsFor(s *session.Session, of docket.Summary, overtaken, takenBack bool, lacking int) string {
	imported := slices.ContainsFunc(of.Runs, run.Run.Done)
	if _, unknown := run.LastUnsettled(of.Runs); unknown {
		return fmt.Sprintf("its import to be settled: anagram import %d", of.Header.Number)
	}
	if _, half := run.LastUnfinished(of.Runs); half && !takenBack {
		return fmt.Sprintf("its import to be finished: anagram import %d --resume", of.Header.Number)
	}
	var parts []string
	if open := of.Tally.Open - of.Tally.Stuck; open > 0 && !overtaken {
		what := Count(open, "decision")
		if e, err := s.Workspace.Environment(of.Header.Target); err == nil && len(e.Approvers) > 0 {
			what += " of " + Some(people(e.Approvers), 5)
		}
		parts = append(parts, what)
	}
	if stuck := of.Tally.Stuck; stuck > 0 && !overtaken {
		parts = append(parts, show.Count(stuck, "conflict to be mended first", "conflicts to be mended first"))
	}
	switch {
	case run.LoadsWait(of.Runs):
		parts = append(parts, "its load files to be loaded and matched")
	case of.Tally.Approved > 0 && !imported:
		if lacking > 0 {
			parts = append(parts, "more approvals of "+Count(lacking, "record"))
		}
		if ready := of.Tally.Approved - lacking; ready > 0 {
			parts = append(parts, fmt.Sprintf("import of %s", Count(ready, "approved record")))
		}
	}
	if len(parts) > 0 && of.Earlier {
		return "a new match, as an earlier Anagram made it"
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

// asked lists what who is at work is asked in a docket and did not answer.
func asked(ctx context.Context, a *Page, s *session.Session, number int) error {
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return err
	}
	defer d.Close()
	list, err := decide.Questions(ctx, d, s.Who)
	if err != nil {
		return err
	}
	const most = 5
	for i, q := range list {
		if i == most {
			Printf(a.Out, "asked         and %s: anagram review %d --waits-for me\n", Count(len(list)-most, "more question"), number)
			break
		}
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("asked         %s asks about %s: %s", show.Harmless(q.By),
			show.Harmless(q.Address), show.Harmless(q.Text)), "              "))
	}
	return nil
}
