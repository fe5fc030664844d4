package present

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/wire"
)

// Import says what an import came to. Folder is where it was asked for, to name files from there.
func Import(a *Page, r importing.Result, d *docket.Docket, folder string) error {
	a.Result = r
	if a.JSON {
		return a.PrintJSON(wire.ImportOf(r))
	}
	say := func(format string, args ...any) { fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf(format, args...), "")) }
	h := r.Header
	for _, line := range earlierTexts(r) {
		say("%s", line)
	}
	if r.Nothing() {
		say("Nothing is approved in docket %d; nothing was written to %s.", h.Number, h.Target)
		if r.Open > 0 {
			a.Next(fmt.Sprintf("anagram review %d", h.Number))
		}
		return nil
	}
	say("%s", outcomeSentence(r, folder))
	for _, f := range r.Failures {
		fmt.Fprintln(a.Coloured(), a.Wrap("  "+f.Message, "  "))
	}
	switch {
	case r.Outcome != run.Failed:
	case len(r.Failures) > 0 && r.Failures[0].Why == prepare.MovedSinceMatch:
		say("Somebody else changed them at the same time. %s, then import what is still wanted.", h.Again())
	case h.Restores > 0:
		say("Decline or hold the records above; or mend them in %s and take the import back again: anagram restore %d",
			h.Target, h.Restores)
	default:
		say("Decline or hold the records above, or mend them in %s and match again; then import again.", h.Source)
	}
	if r.Outcome == run.Imported && r.Backup > 0 && r.New+r.Changed+r.Removed > 0 {
		say("What these records were before is kept in %s; anagram restore %d takes the import back.", d.Path(), h.Number)
	}
	printBeside(a, r)
	printAround(a, r)
	switch r.Outcome {
	case run.WrittenOtherwise:
		a.Next(fmt.Sprintf("anagram restore %d", h.Number))
	case run.Rehearsed, run.Unknown:
		next := "import"
		if r.Outcome == run.Rehearsed && r.New+r.Changed+r.Removed == 0 {
			next = "review" // all of it was left out
		}
		a.Next(fmt.Sprintf("anagram %s %d", next, h.Number))
	case run.Imported:
		if r.Undecided > 0 {
			a.Next(fmt.Sprintf("anagram review %d --decision open", h.Number))
			return nil
		}
		matchAgain(a, h)
	case run.Blocked:
		a.Next(fmt.Sprintf("anagram review %d", h.Number))
	}
	return nil
}

// earlierTexts says what was found out, or made good, about earlier imports.
func earlierTexts(r importing.Result) []string {
	var out []string
	h := r.Header
	for _, number := range r.Overdue {
		out = append(out, DueText(number, h.Target))
	}
	switch {
	case r.Before != nil:
		out = append(out, SettledText(*r.Before, h.Target))
	case r.Earlier:
		out = append(out, fmt.Sprintf("An earlier import of docket %d was interrupted. %s was read again to see where it stands.",
			h.Number, h.Target))
	}
	return out
}

// outcomeSentence says what came of an import.
func outcomeSentence(r importing.Result, folder string) string {
	h := r.Header
	written := show.Written(r.New, r.Changed, r.Removed)
	were, back := "were", "written, read back and found equal"
	if r.New+r.Changed+r.Removed == 1 {
		were = "was"
	}
	if r.Removed > 0 {
		back = "written, read back and found as approved"
	}
	switch {
	case r.Outcome == run.Failed:
		return fmt.Sprintf("The import of docket %d failed. Nothing was written to %s; everything is as it was.", h.Number, h.Target)
	case r.Outcome == run.WrittenOtherwise:
		return fmt.Sprintf("The import of docket %d into %s stopped: what was written last reads back otherwise. %s %s written and stay so, as %s has no transactions. To take them back: anagram restore %d", h.Number, h.Target, strings.ToUpper(written[:1])+written[1:], were, h.Target, h.Number)
	case r.Outcome == run.Unknown:
		return fmt.Sprintf("It is not known whether docket %d was imported into %s: the answer was lost, and the target does not show it.", h.Number, h.Target)
	case r.Outcome == run.Blocked:
		return fmt.Sprintf("Every approved record of docket %d is blocked; nothing was written to %s.", h.Number, h.Target)
	case r.Already > 0 && r.New+r.Changed+r.Removed == 0:
		return fmt.Sprintf("There was nothing left to write to %s.", h.Target)
	case r.New+r.Changed+r.Removed == 0:
		return fmt.Sprintf("Nothing of docket %d was left to write to %s.", h.Number, h.Target)
	case r.Outcome == run.WrittenOut:
		return fmt.Sprintf("Wrote load files for %s of docket %d into %s. Nothing was written to %s; when they have been loaded there, the next match says so.", written, h.Number, folder, h.Target)
	case r.Outcome == run.Rehearsed:
		return fmt.Sprintf("Rehearsed docket %d in %s: %s %s %s. Then all of it was taken back; %s is as it was.", h.Number, h.Target,
			written, were, back, h.Target)
	default:
		return fmt.Sprintf("Imported docket %d into %s: %s %s %s.", h.Number, h.Target, written, were, back)
	}
}

// printBeside says what else there is to know about an import.
func printBeside(a *Page, r importing.Result) {
	out := a.Coloured()
	h := r.Header
	aside := func(format string, args ...any) { fmt.Fprintln(out, a.Wrap(fmt.Sprintf(format, args...), "  ")) }
	if r.Steps && r.Outcome == run.Imported {
		aside("%s has no transactions for all that was written, so each record was written by itself, checked and read back at once.", h.Target)
	}
	if r.Settled {
		aside("The answer to the last step was lost; %s was read to see that it is so.", h.Target)
	}
	if r.Unrecorded != nil {
		aside("The docket could not be told how the import ended: %v. Import it again, which writes nothing twice.", r.Unrecorded)
	}
	if r.Forgotten != nil {
		aside("It could not be remembered that both sides agree now: %v. The next match finds it out.", r.Forgotten)
	}
	if r.Already > 0 {
		Printf(out, "%s held the approved values already.\n", Count(r.Already, "record"))
	}
	if len(r.LeftOut) > 0 {
		Printf(out, "%s left out:\n", Count(len(r.LeftOut), "approved record"))
		const most = 10 // of one kind
		n := map[string]int{}
		for _, l := range r.LeftOut {
			if n[l.Why]++; n[l.Why] <= most {
				aside("  %s: %s", Tone(l.Why), l.Message)
			}
		}
		for _, why := range slices.Sorted(maps.Keys(n)) {
			if n[why] > most {
				aside("  %s: %d more; see: anagram review %d --decision approved, or anagram history %d", Tone(why),
					n[why]-most, h.Number, h.Number)
			}
		}
	}
	if r.Open > 0 {
		Printf(out, "Still open in docket %d: %s.\n", h.Number, Count(r.Open, "finding"))
	}
}

// DueText says that what is run after an import of a docket was run only now.
func DueText(number int, target string) string {
	return fmt.Sprintf("What is to be run after the import of docket %d into %s had not all been run. It was run now.", number, target)
}

// printAround says what was run around an import, and what people are to do now.
func printAround(a *Page, r importing.Result) {
	if r.AfterFailed != nil {
		fmt.Fprintln(a.Coloured(), a.Wrap(Tone("caution")+": "+r.AfterFailed.Error()+".", "  "))
	}
	if r.Around == nil {
		return
	}
	if n := len(r.Around.Before) + len(r.Around.After); n > 0 && r.AfterFailed == nil {
		fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf("Run in %s as anagram.yaml says: %s before and %s after the import.",
			r.Header.Target, Count(len(r.Around.Before), "statement"), Count(len(r.Around.After), "statement")), "  "))
	}
	for _, reminder := range r.Around.RemindAfter {
		fmt.Fprintln(a.Coloured(), a.Wrap("To do now: "+show.Harmless(reminder), "  "))
	}
}

// SettledText says how an earlier import ended, now that it is known.
func SettledText(one importing.Settled, target string) string {
	if one.Run.Outcome != run.Imported {
		return fmt.Sprintf("How the last import of docket %d ended was not known. %s shows that nothing of it was written.",
			one.Docket, target)
	}
	return fmt.Sprintf("How the last import of docket %d ended was not known. %s shows that it was imported: %s.", one.Docket, target,
		show.Written(one.Run.New, one.Run.Changed, one.Run.Removed))
}
