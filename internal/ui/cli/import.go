package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/loadfiles"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

func (a *app) importCommand() *cobra.Command {
	var rehearse, resume, reminded, complete bool
	var intoFiles, form, to string
	cmd := &cobra.Command{
		Use:   "import [DOCKET]",
		Short: "Write what was approved into the target, and nothing else",
		Long: `Writes the approved findings of a docket into its target, in one transaction. The
touched records are read again first: what moved since the match is left out and
named. Their images are kept in the docket before anything is written, and what was
written is read back before it counts. Nothing is ever removed, but by a docket of
anagram restore, which takes an earlier import back.

With --into-files the approved records and fields are written as files, in import
order, for somebody who may write to the target when you may not.`,
		Example: "  anagram import 7 --rehearse\n  anagram import 7\n  anagram import 7 --into-files load --form sql",
		RunE: a.withDocket(func(cmd *cobra.Command, s *session.Session, d *docket.Docket) error {
			var result importing.Result
			var err error
			switch {
			case form != "" && intoFiles == "":
				return &session.UsageError{Message: "--form goes with --into-files"}
			case intoFiles != "" && resume:
				return &session.UsageError{Message: "--resume and --into-files do not go together: load files are never written to the target"}
			case intoFiles != "" && to != "":
				return &session.UsageError{Message: "--to and --into-files do not go together: load files are never written to the target"}
			case intoFiles != "" && rehearse:
				return &session.UsageError{Message: "--rehearse and --into-files do not go together: load files are never written to the target"}
			case intoFiles != "":
				result, err = loadfiles.Write(cmd.Context(), s, d, a.path(intoFiles), cmp.Or(form, "csv"))
			default:
				result, err = importing.Import(cmd.Context(), s, d, importing.Request{Rehearse: rehearse, To: to, Resume: resume, Complete: complete, Reminded: reminded, Tick: a.ticks(), Told: a.tellRehearsal})
			}
			if err != nil && a.json && result.Outcome != "" {
				_ = a.printImportJSON(result)
			}
			if err != nil {
				if result.AfterFailed != nil {
					err = errors.Join(err, result.AfterFailed)
				}
				return err
			}
			return a.printImport(result, d, intoFiles)
		}),
	}
	cmd.Flags().BoolVar(&rehearse, "rehearse", false, "do everything in the target and take it back")
	cmd.Flags().BoolVar(&resume, "resume", false, "go on with an import that was broken off half way")
	cmd.Flags().BoolVar(&complete, "complete", false, "only where every finding is decided; else exit with 3")
	cmd.Flags().BoolVar(&reminded, "reminded", false, "what anagram.yaml reminds of before an import was seen to")
	cmd.Flags().StringVar(&intoFiles, "into-files", "", "write files for somebody else to load into this new folder instead")
	cmd.Flags().StringVar(&to, "to", "", "the target, said again; needed against the usual direction")
	cmd.Flags().StringVar(&form, "form", "", "form of the load files: csv, jsonl or sql (default csv)")
	return cmd
}

func (a *app) printImportJSON(r importing.Result) error {
	left := append([]importing.LeftOut{}, r.LeftOut...)
	written := map[string]int{"new": r.New, "changed": r.Changed}
	if r.Header.Restores != 0 {
		written["removed"] = r.Removed
	}
	doc := map[string]any{
		"docket": r.Header.Number, "outcome": r.Outcome, "written": written,
		"already": r.Already, "left_out": left, "verified": r.Verified, "seconds": float64(int(r.Seconds*1000)) / 1000,
	}
	if len(r.Failures) > 0 {
		doc["failures"] = r.Failures
	}
	if r.Around != nil {
		around := map[string]any{"before": len(r.Around.Before), "after": len(r.Around.After), "remind_after": append([]string{}, r.Around.RemindAfter...)}
		if r.AfterFailed != nil {
			around["after_failed"] = r.AfterFailed.Error()
		}
		doc["around"] = around
	}
	return a.printJSON(doc)
}

func (a *app) printImport(r importing.Result, d *docket.Docket, folder string) error {
	a.result = r
	if a.json {
		return a.printImportJSON(r)
	}
	say := func(format string, args ...any) { fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf(format, args...), "")) }
	h := r.Header
	for _, line := range earlierTexts(r) {
		say("%s", line)
	}
	if r.Nothing() {
		say("Nothing is approved in docket %d; nothing was written to %s.", h.Number, h.Target)
		if r.Open > 0 {
			a.next(fmt.Sprintf("anagram review %d", h.Number))
		}
		return nil
	}
	say("%s", outcomeSentence(r, folder))
	for _, f := range r.Failures {
		fmt.Fprintln(a.out(), a.wrap("  "+f.Message, "  "))
	}
	switch {
	case r.Outcome != docket.Failed:
	case len(r.Failures) > 0 && r.Failures[0].Why == importing.MovedSinceMatch:
		say("Somebody else changed them at the same time. %s, then import what is still wanted.", h.Again())
	case h.Restores > 0:
		say("Decline or hold the records above; or mend them in %s and take the import back again: anagram restore %d", h.Target, h.Restores)
	default:
		say("Decline or hold the records above, or mend them in %s and match again; then import again.", h.Source)
	}
	if r.Outcome == docket.Imported && r.Backup > 0 && r.New+r.Changed+r.Removed > 0 {
		say("What these records were before is kept in %s; anagram restore %d takes the import back.", d.Path(), h.Number)
	}
	a.printBeside(r)
	a.printAround(r)
	switch r.Outcome {
	case docket.WrittenOtherwise:
		a.next(fmt.Sprintf("anagram restore %d", h.Number))
	case docket.Rehearsed, docket.Unknown:
		a.next(fmt.Sprintf("anagram import %d", h.Number))
	case docket.Imported:
		if r.Undecided > 0 {
			a.next(fmt.Sprintf("anagram review %d --decision open", h.Number))
			return nil
		}
		a.matchAgain(h)
	case docket.Blocked:
		a.next(fmt.Sprintf("anagram review %d", h.Number))
	}
	return nil
}

// earlierTexts says what was found out, or made good, about earlier imports.
func earlierTexts(r importing.Result) []string {
	var out []string
	h := r.Header
	for _, number := range r.Overdue {
		out = append(out, dueText(number, h.Target))
	}
	switch {
	case r.Before != nil:
		out = append(out, settledText(*r.Before, h.Target))
	case r.Earlier:
		out = append(out, fmt.Sprintf("An earlier import of docket %d was interrupted. %s was read again to see where it stands.", h.Number, h.Target))
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
	case r.Outcome == docket.Failed:
		return fmt.Sprintf("The import of docket %d failed. Nothing was written to %s; everything is as it was.", h.Number, h.Target)
	case r.Outcome == docket.WrittenOtherwise:
		return fmt.Sprintf("The import of docket %d into %s stopped: what was written last reads back otherwise. %s %s written and stay so, as %s has no transactions. To take them back: anagram restore %d", h.Number, h.Target, strings.ToUpper(written[:1])+written[1:], were, h.Target, h.Number)
	case r.Outcome == docket.Unknown:
		return fmt.Sprintf("It is not known whether docket %d was imported into %s: the answer was lost, and the target does not show it.", h.Number, h.Target)
	case r.Outcome == docket.Blocked:
		return fmt.Sprintf("Every approved record of docket %d is blocked; nothing was written to %s.", h.Number, h.Target)
	case r.Already > 0 && r.New+r.Changed+r.Removed == 0:
		return fmt.Sprintf("There was nothing left to write to %s.", h.Target)
	case r.Outcome == docket.WrittenOut:
		return fmt.Sprintf("Wrote load files for %s of docket %d into %s. Nothing was written to %s; when they have been loaded there, the next match says so.", written, h.Number, folder, h.Target)
	case r.Outcome == docket.Rehearsed:
		return fmt.Sprintf("Rehearsed docket %d in %s: %s %s %s. Then all of it was taken back; %s is as it was.", h.Number, h.Target, written, were, back, h.Target)
	default:
		return fmt.Sprintf("Imported docket %d into %s: %s %s %s.", h.Number, h.Target, written, were, back)
	}
}

// printBeside says what else there is to know about an import.
func (a *app) printBeside(r importing.Result) {
	out := a.out()
	h := r.Header
	aside := func(format string, args ...any) { fmt.Fprintln(out, a.wrap(fmt.Sprintf(format, args...), "  ")) }
	if r.Steps && r.Outcome == docket.Imported {
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
		printf(out, "%s held the approved values already.\n", count(r.Already, "record"))
	}
	if len(r.LeftOut) > 0 {
		printf(out, "%s left out:\n", count(len(r.LeftOut), "approved record"))
		const most = 10 // of one kind
		n := map[string]int{}
		for _, l := range r.LeftOut {
			if n[l.Why]++; n[l.Why] <= most {
				aside("  %s: %s", tone(l.Why), l.Message)
			}
		}
		for _, why := range slices.Sorted(maps.Keys(n)) {
			if n[why] > most {
				aside("  %s: %d more; see: anagram review %d --decision approved, or anagram history %d", tone(why), n[why]-most, h.Number, h.Number)
			}
		}
	}
	if r.Open > 0 {
		printf(out, "Still open in docket %d: %s.\n", h.Number, count(r.Open, "finding"))
	}
}

// ticks asks on a terminal whether what is reminded of was seen to; nil where nobody is there.
func (a *app) ticks() func(string) (bool, error) {
	if a.json || a.quiet || !a.interactive() {
		return nil
	}
	in := bufio.NewReader(a.In)
	return func(reminder string) (bool, error) {
		fmt.Fprint(a.Err, a.wrap(show.Harmless(reminder), "")+"\n  seen to? y or n: ")
		line, err := in.ReadString('\n')
		if err != nil && line == "" {
			return false, nil //nolint:nilerr // who closes the input did not say yes
		}
		return strings.EqualFold(strings.TrimSpace(line), "y"), nil
	}
}

// tellRehearsal says before a rehearsal what it cannot take back.
func (a *app) tellRehearsal(what []string) {
	for _, text := range what {
		a.note("A rehearsal takes back what it writes, but %s.", text)
	}
}

func dueText(number int, target string) string {
	return fmt.Sprintf("What is to be run after the import of docket %d into %s had not all been run. It was run now.", number, target)
}

// printAround says what was run around an import, and what people are to do now.
func (a *app) printAround(r importing.Result) {
	if r.AfterFailed != nil {
		fmt.Fprintln(a.out(), a.wrap(tone("caution")+": "+r.AfterFailed.Error()+".", "  "))
	}
	if r.Around == nil {
		return
	}
	if n := len(r.Around.Before) + len(r.Around.After); n > 0 && r.AfterFailed == nil {
		fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("Run in %s as anagram.yaml says: %s before and %s after the import.", r.Header.Target, count(len(r.Around.Before), "statement"), count(len(r.Around.After), "statement")), "  "))
	}
	for _, reminder := range r.Around.RemindAfter {
		fmt.Fprintln(a.out(), a.wrap("To do now: "+show.Harmless(reminder), "  "))
	}
}

// settledText says how an earlier import ended, now that it is known.
func settledText(one importing.Settled, target string) string {
	if one.Run.Outcome != docket.Imported {
		return fmt.Sprintf("How the last import of docket %d ended was not known. %s shows that nothing of it was written.", one.Docket, target)
	}
	return fmt.Sprintf("How the last import of docket %d ended was not known. %s shows that it was imported: %s.", one.Docket, target, show.Written(one.Run.New, one.Run.Changed, one.Run.Removed))
}
