package present

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/wire"
)

// Decided says what a decision came to, what it holds up and what it frees.
func Decided(a *Page, r decide.Request, h docket.Header, result decide.Result) error {
	if a.JSON {
		return a.PrintJSON(wire.DecidedOf(h, r, result))
	}
	sayDone(a, r, h, result)
	saySides(a, h, result)
	sayOthers(a, result.Stopped, staysStopped, mendStopped)
	sayOthers(a, result.OfOthers, onlyByOthers, mendOfOthers)
	sayAlong(a, result)
	sayLeft(a, h, result)
	printInTheWay(a, h, result)
	Printf(a.Out, "Decisions in docket %d: %s.\n", h.Number, TallyText(result.Now.Tally))
	if t := result.Now.Tally; t.Approved > 0 && len(result.Blocked) == t.Approved && t.Open == t.Stuck && a.Alone == "" {
		a.Next(fmt.Sprintf("anagram review %d --decision approved --full", h.Number)) // all of it is held up
		return nil
	}
	NextStep(context.Background(), a, nil, result.Now) // nothing is decided on top of an import that is half done
	return nil
}

// sayDone says what was decided on how many findings.
func sayDone(a *Page, r decide.Request, h docket.Header, result decide.Result) {
	what := Count(result.Decided, "finding")
	if r.Field != "" {
		what = "Field " + r.Field + " of " + what
	}
	var parts []string
	for _, status := range match.Statuses() {
		if n := result.ByStatus[status]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, status))
		}
	}
	of := ""
	if len(parts) > 0 {
		of = " (" + strings.Join(parts, ", ") + ")"
	}
	switch r.Take {
	case decide.TakeSource:
		Printf(a.Out, "%s of docket %d approved with the values of %s%s.\n", what, h.Number, h.Source, of)
	case decide.TakeTarget:
		Printf(a.Out, "%s of docket %d settled: %s keeps its values%s.\n", what, h.Number, h.Target, of)
	default:
		done := string(r.Decision)
		if r.Decision == decision.Undecided {
			done = "opened again"
			if result.Decided == 0 && len(result.OfOthers) == 0 {
				done = "opened again; what was named is open as it is"
			}
		}
		Printf(a.Out, "%s of docket %d %s%s.\n", what, h.Number, done, of)
	}
}

// sayAlong says what was decided along with what was named.
func sayAlong(a *Page, result decide.Result) {
	for _, along := range []struct {
		what      string
		addresses []string
	}{{"part", result.Parts}, {"record that they need", result.Needed}} {
		if n := len(along.addresses); n > 0 {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s among them: %s.",
				show.Count(n, along.what, strings.Replace(along.what, "record", "records",
					1)+map[bool]string{true: "s"}[along.what == "part"]), Some(along.addresses, 12)), "  "))
		}
	}
}

// sayLeft says what was named and not decided, and how it could be.
func sayLeft(a *Page, h docket.Header, result decide.Result) {
	if result.Kept > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s decided otherwise before: left as decided. Name a record in full, or use --again, to decide anew.", Count(result.Kept, "finding")), "  "))
	}
	if n := result.KeptFields; n > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s declined or held before: left as decided. Name it with --field, or use --again, to decide anew.", Count(n, "field")), "  "))
	}
	if n := result.PassedOver[match.TargetOnly]; n > 0 && h.Restores != 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s passed over: to have records removed that the import of docket %d made, name them in full, or say --take source. See: anagram review %s --status target-only", Count(n, "created-here finding"), h.Restores, a.called(h)), "  "))
	} else if n > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s passed over: an import never removes what only %s has. See: anagram review %s --removals",
				Count(n, "target-only finding"), h.Target, a.called(h)), "  "))
	}
	if n := result.PassedOver[match.Conflict]; n > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s passed over: say whose values are right with --take source or --take target; a key that occurs twice, or is held outside, and what cannot be read, have to be mended first. See: anagram review %s --status conflict", Count(n, "conflict"), a.called(h)), "  "))
	}
	if n := result.PassedOver[match.TargetEdit]; n > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s passed over: only the target changed them, so nothing is proposed. --take source takes the source's values all the same.", Count(n, "target-edit finding")), "  "))
	}
}

// saySides says of how many fields the source's value was taken, and what was left to the target.
func saySides(a *Page, h docket.Header, r decide.Result) {
	if r.Taken > 0 {
		words := "The values of " + h.Source + " are taken in " + Count(r.Taken, "field")
		if r.Moved > 0 {
			words += fmt.Sprintf("; %s had changed %d of them itself", h.Target, r.Moved)
		}
		fmt.Fprintln(a.Out, a.Wrap(words+".", "  "))
	}
	if r.Left > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s left to %s, as only %s changed %s. Name a record, or use --field, to take the source's value.", Count(r.Left, "field"), h.Target, h.Target,
				map[bool]string{true: "it", false: "them"}[r.Left == 1]), "  "))
	}
}

// sayOthers says of findings that other people's words on them count.
func sayOthers(a *Page, list []decide.Other, said, mend string) {
	if len(list) == 0 {
		return
	}
	const most = 8
	var names []string
	for _, o := range list[:min(len(list), most)] {
		names = append(names, o.Address+" ("+strings.Join(o.By, ", ")+")")
	}
	if more := len(list) - most; more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}
	fmt.Fprintln(a.Out, a.Wrap(strings.TrimSpace(Count(len(list), "finding")+" "+said+": "+strings.Join(names, "; ")+". "+mend), "  "))
}

// What is said of findings on which others' words go before.
const (
	staysStopped = "approved by this and declined or held by others, which counts"
	mendStopped  = "Ask them, or approve with --overrule and a note."
	onlyByOthers = "decided by others alone, so nothing was taken back"
	mendOfOthers = "What they declined or hold is approved with --overrule and a note."
)

// printInTheWay says what a decision changed about what stands in the way of approved
// records: each cause once, with the number of records it holds up.
func printInTheWay(a *Page, h docket.Header, result decide.Result) {
	if n := len(result.Newly); n > 0 {
		Printf(a.Out, "%s cannot be imported as things stand now:\n", Count(n, "approved record"))
		for i, c := range decide.Causes(result.Newly) {
			const most = 10
			if i == most {
				Printf(a.Out, "  and more; see: anagram review %s --decision approved --full\n", a.called(h))
				break
			}
			more := ""
			if c.Records > 1 {
				more = fmt.Sprintf(" So it is with %s.", show.Count(c.Records-1, "more record", ""))
			}
			fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf("  %s: %s%s %s", Tone(string(c.Code)), c.Message, more, c.Mend), "  "))
		}
	}
	if n := len(result.Freed); n > 0 {
		var addresses []string
		for _, b := range result.Freed {
			addresses = append(addresses, b.Address)
		}
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("No longer in the way: %s of %s.", Some(codesOf(result.Freed), 5), Some(addresses, 8)),
			"  "))
	}
	if more := len(result.Blocked) - len(result.Newly); more > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s as before; see: anagram review %s --decision approved --full",
			show.Count(more, "approved record is held up", "approved records are held up"), a.called(h)), "  "))
	}
}

func codesOf(records []decide.BlockedRecord) []string {
	var out []string
	for _, b := range records {
		for _, c := range b.Checks {
			if !slices.Contains(out, string(c.Code)) {
				out = append(out, string(c.Code))
			}
		}
	}
	return out
}

// NextStep names the sensible next command for a docket.
func NextStep(ctx context.Context, a *Page, of *session.Session, s docket.Summary) {
	n := s.Header.Number
	imported := len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Outcome == run.Imported
	rehearsed := len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Outcome == run.Rehearsed
	switch {
	case a.Alone != "" && s.Tally.Open > s.Tally.Stuck:
		a.Next("anagram approve", Arg(a.Alone), "PATTERN, or decline, or hold")
	case half(ctx, of, s):
		a.Next(fmt.Sprintf("anagram import %d --resume", n))
	case a.Alone != "":
		a.Note("Send %s back to whoever works with the docket; there it is read in with: anagram decide %d --from FILE", a.Alone, n)
	case s.Earlier && !imported && s.Header.Restores > 0:
		a.Next(fmt.Sprintf("anagram restore %d", s.Header.Restores))
	case imported && s.Tally.Open == s.Tally.Stuck, s.Earlier:
		matchAgain(a, s.Header)
	case s.Tally.Open > s.Tally.Stuck:
		a.Next(fmt.Sprintf("anagram approve %d PATTERN, or decline, or hold", n))
	case s.Tally.Approved > 0 && (rehearsed || a.IsWeb(s.Header.Target)): // a service cannot rehearse
		a.Next(fmt.Sprintf("anagram import %d", n))
	case s.Tally.Approved > 0:
		// Conflicts wait for another match; what is approved need not.
		a.Next(fmt.Sprintf("anagram import %d --rehearse", n))
	}
}

// half reports whether the last import was broken off half way, and no restore took it back.
func half(ctx context.Context, of *session.Session, s docket.Summary) bool {
	_, unknown := run.LastUnsettled(s.Runs)
	if _, unfinished := run.LastUnfinished(s.Runs); unknown || !unfinished || of == nil {
		return false
	}
	pasts, err := of.Pasts(ctx)
	return err == nil && !session.TakenBack(pasts)[s.Header.Number]
}

// matchAgain names the command that looks how things stand after an import.
func matchAgain(a *Page, h docket.Header) {
	if h.Restores > 0 {
		a.Next(fmt.Sprintf("anagram prove %d", h.Number))
		return
	}
	a.Next("anagram match", Arg(h.Parcel), "--against", Arg(h.Target))
}
