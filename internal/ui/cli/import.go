package cli

import (
	"cmp"
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/loadfiles"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

func (a *app) importCommand() *cobra.Command {
	var rehearse bool
	var intoFiles, form, to string
	cmd := &cobra.Command{
		Use:   "import [DOCKET]",
		Short: "Write what was approved into the target, in one transaction",
		Long: `Writes the approved findings of a docket into its target, in one transaction. The
touched records are read again first: what moved since the match is left out and
named. Their images are kept in the docket before anything is written, and what was
written is read back before it counts. Nothing is ever removed.

With --into-files the approved records and fields are written as files, in import
order, for somebody who may write to the target when you may not.`,
		Example: "  anagram import 7 --rehearse\n  anagram import 7\n  anagram import 7 --into-files load --form sql",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			s, d, err := a.openDocket(cmd.Context(), given)
			if err != nil {
				return err
			}
			defer d.Close()
			var result importing.Result
			switch {
			case form != "" && intoFiles == "":
				return &session.UsageError{Message: "--form goes with --into-files"}
			case intoFiles != "" && to != "":
				return &session.UsageError{Message: "--to and --into-files do not go together: load files are never written to the target"}
			case intoFiles != "" && rehearse:
				return &session.UsageError{Message: "--rehearse and --into-files do not go together: load files are never written to the target"}
			case intoFiles != "":
				result, err = loadfiles.Write(cmd.Context(), s, d, a.path(intoFiles), cmp.Or(form, "csv"))
			default:
				result, err = importing.Import(cmd.Context(), s, d, importing.Request{Rehearse: rehearse, To: to})
			}
			if err != nil && a.json && result.Outcome != "" {
				_ = a.printImportJSON(result)
			}
			if err != nil {
				return err
			}
			return a.printImport(result, d, intoFiles)
		}),
	}
	cmd.Flags().BoolVar(&rehearse, "rehearse", false, "do everything in the target and take it back")
	cmd.Flags().StringVar(&intoFiles, "into-files", "", "write files for somebody else to load into this new folder instead")
	cmd.Flags().StringVar(&to, "to", "", "the target, said again; needed against the usual direction")
	cmd.Flags().StringVar(&form, "form", "", "form of the load files: csv, jsonl or sql (default csv)")
	return cmd
}

func (a *app) printImportJSON(r importing.Result) error {
	left := append([]importing.LeftOut{}, r.LeftOut...)
	doc := map[string]any{
		"docket": r.Header.Number, "outcome": r.Outcome, "written": map[string]int{"new": r.New, "changed": r.Changed},
		"already": r.Already, "left_out": left, "verified": r.Verified, "seconds": float64(int(r.Seconds*1000)) / 1000,
	}
	if len(r.Failures) > 0 {
		doc["failures"] = r.Failures
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
	if r.Before != nil {
		say("%s", settledText(*r.Before, h.Target))
	} else if r.Earlier {
		say("An earlier import of docket %d was interrupted. %s was read again to see where it stands.", h.Number, h.Target)
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
	if r.Outcome == docket.Failed {
		say("Decline or hold the records above, or mend them in %s and match again; then import again.", h.Source)
	}
	if r.Outcome == docket.Imported && r.Backup > 0 && r.New+r.Changed > 0 {
		say("What these records were before is kept in %s.", d.Path())
	}
	a.printBeside(r)
	switch r.Outcome {
	case docket.Rehearsed, docket.Unknown:
		a.next(fmt.Sprintf("anagram import %d", h.Number))
	case docket.Imported:
		if r.Undecided > 0 {
			a.next(fmt.Sprintf("anagram review %d --decision open", h.Number))
			return nil
		}
		a.next("anagram match", arg(h.Parcel), "--against", arg(h.Target))
	case docket.Blocked:
		a.next(fmt.Sprintf("anagram review %d", h.Number))
	}
	return nil
}

// outcomeSentence says what came of an import.
func outcomeSentence(r importing.Result, folder string) string {
	h := r.Header
	written := show.Written(r.New, r.Changed)
	were := "were"
	if r.New+r.Changed == 1 {
		were = "was"
	}
	switch {
	case r.Outcome == docket.Failed:
		return fmt.Sprintf("The import of docket %d failed. Nothing was written to %s; everything is as it was.", h.Number, h.Target)
	case r.Outcome == docket.Unknown:
		return fmt.Sprintf("It is not known whether docket %d was imported into %s: the answer was lost, and the target does not show it.", h.Number, h.Target)
	case r.Outcome == docket.Blocked:
		return fmt.Sprintf("Every approved record of docket %d is blocked; nothing was written to %s.", h.Number, h.Target)
	case r.Already > 0 && r.New+r.Changed == 0:
		return fmt.Sprintf("There was nothing left to write to %s.", h.Target)
	case r.Outcome == docket.WrittenOut:
		return fmt.Sprintf("Wrote load files for %s of docket %d into %s. Nothing was written to %s; when they have been loaded there, the next match says so.", written, h.Number, folder, h.Target)
	case r.Outcome == docket.Rehearsed:
		return fmt.Sprintf("Rehearsed docket %d in %s: %s %s written, read back and found equal. Then all of it was taken back; %s is as it was.", h.Number, h.Target, written, were, h.Target)
	default:
		return fmt.Sprintf("Imported docket %d into %s: %s %s written, read back and found equal.", h.Number, h.Target, written, were)
	}
}

// printBeside says what else there is to know about an import.
func (a *app) printBeside(r importing.Result) {
	out := a.out()
	h := r.Header
	aside := func(format string, args ...any) { fmt.Fprintln(out, a.wrap(fmt.Sprintf(format, args...), "  ")) }
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
		for _, l := range r.LeftOut {
			aside("  %s: %s", tone(l.Why), l.Message)
		}
	}
	if r.Open > 0 {
		printf(out, "Still open in docket %d: %s.\n", h.Number, count(r.Open, "finding"))
	}
}

// settledText says how an earlier import ended, now that it is known.
func settledText(one importing.Settled, target string) string {
	if one.Run.Outcome != docket.Imported {
		return fmt.Sprintf("How the last import of docket %d ended was not known. %s shows that nothing of it was written.", one.Docket, target)
	}
	return fmt.Sprintf("How the last import of docket %d ended was not known. %s shows that it was imported: %s.", one.Docket, target, show.Written(one.Run.New, one.Run.Changed))
}
