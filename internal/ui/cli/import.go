package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/loadfiles"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func importCommand(a *app) *cobra.Command {
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
				result, err = importing.Import(cmd.Context(), s, d, importing.Request{Rehearse: rehearse, To: to, Resume: resume,
					Complete: complete, Reminded: reminded, Tick: a.ticks(), Told: a.tellRehearsal})
			}
			if err != nil && a.JSON && result.Outcome != "" {
				_ = a.PrintJSON(wire.ImportOf(result))
			}
			if err != nil {
				if result.AfterFailed != nil {
					err = errors.Join(err, result.AfterFailed)
				}
				return err
			}
			return present.Import(a.Page, result, d, intoFiles)
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

// ticks asks on a terminal whether what is reminded of was seen to; nil where nobody is there.
func (a *app) ticks() func(string) (bool, error) {
	if a.JSON || a.Quiet || !a.Interactive() {
		return nil
	}
	in := bufio.NewReader(a.In)
	return func(reminder string) (bool, error) {
		fmt.Fprint(a.Err, a.Wrap(show.Harmless(reminder), "")+"\n  seen to? y or n: ")
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
		a.Note("A rehearsal takes back what it writes, but %s.", text)
	}
}
