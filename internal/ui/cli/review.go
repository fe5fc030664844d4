package cli

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/present"
)

// whichFlags are the flags that say which findings are meant.
type whichFlags struct{ statuses, decisions []string }

func (w *whichFlags) add(cmd *cobra.Command, which *decide.Which) {
	flags := cmd.Flags()
	flags.StringSliceVar(&w.statuses, "status", nil, "only findings with this status")
	flags.StringSliceVar(&which.Types, "type", nil, "only this record type")
	flags.StringSliceVar(&w.decisions, "decision", nil, "open, waiting, approved, in-part, declined, held, clash, target-kept, to-see")
	flags.StringSliceVar(&which.By, "by", nil, "only findings that this person decided; me is you, others everybody else")
	flags.StringVar(&which.WaitsFor, "waits-for", "", "only findings that this person's word would bring on; me is you")
	flags.StringSliceVar(&which.ChangedBy, "changed-by", nil, "only records that this person changed last, on either side")
	flags.StringVar(&which.ChangedSince, "changed-since", "", "only records that either side changed since this date or time")
	flags.StringSliceVar(&which.Checks, "check", nil, "only findings with this check")
	flags.BoolVar(&which.Before, "approved-before", false, "only findings that an earlier docket approved, as they still are")
	flags.StringVar(&which.Group, "group", "", "only the group of this record")
}

func (w *whichFlags) into(which *decide.Which) {
	which.Statuses, which.Decisions = nil, nil
	for _, word := range w.statuses {
		which.Statuses = append(which.Statuses, match.Status(word))
	}
	for _, word := range w.decisions {
		which.Decisions = append(which.Decisions, decision.Decision(word))
	}
}

func reviewCommand(a *app) *cobra.Command {
	var r present.Reviewing
	var words whichFlags
	var removals, print bool
	var outFile, filesIn string
	cmd := &cobra.Command{
		Use:   "review [DOCKET]",
		Short: "Show what a docket found: groups of records, or each record field by field",
		Long: `Shows what a docket found. Records that are decided together stand in one group: a record
with its parts and with what waits for it. On a terminal this is the interactive review;
? shows its keys. With any option, or into a pipe, it is printed: each group is one line
where there is more than fits on a screen; --full shows every record, field by field.`,
		Example: "  anagram review 7 --status conflict --full\n  anagram review --group assay/FCAL\n  anagram review --decision open --sort size\n  anagram review --removals",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			words.into(&r.Which)
			s, d, err := a.openDocket(cmd.Context(), given)
			if err != nil {
				return err
			}
			defer d.Close()
			if outFile != "" && filesIn != "" {
				return &session.UsageError{Message: "--out and --files do not go together: one writes a report, the other what is looked at beside it"}
			}
			if filesIn != "" {
				return writeFiles(cmd.Context(), a, s, d, r.Which, filesIn)
			}
			if outFile != "" {
				return writeReport(cmd.Context(), a, s, d, r.Which, removals, outFile)
			}
			if removals {
				return present.Removals(cmd.Context(), a.Page, s, d, r.Which)
			}
			if a.JSON {
				return present.ReviewJSON(cmd.Context(), a.Page, s, d, r.Which)
			}
			if a.Interactive() && !print && !r.Full && !r.All && !r.Which.Any() && len(r.Which.Patterns) == 0 && r.Sort == "" {
				return reviewOnTerminal(cmd.Context(), a, s, d)
			}
			return a.Paged(cmd.Context(), func() error { return present.Review(cmd.Context(), a.Page, s, d, r) })
		}),
	}
	words.add(cmd, &r.Which)
	flags := cmd.Flags()
	flags.StringArrayVar(&r.Which.Patterns, "only", nil, "only records that fit this pattern")
	flags.StringVar(&r.Sort, "sort", "", "the order of groups: "+strings.Join(decide.Sorts(), ", "))
	flags.BoolVar(&r.Full, "full", false, "show every record with its fields and checks")
	flags.BoolVar(&r.All, "all", false, "list what is without differences and what was not compared as well")
	flags.BoolVar(&removals, "removals", false, "list what only the target has, for a person to remove by hand")
	flags.StringVar(&outFile, "out", "", "write a report into this new file instead: .xlsx, .csv, .html or .jsonl")
	flags.StringVar(&filesIn, "files", "", "write both sides' attachments, and long texts, that differ into this new folder")
	flags.BoolVar(&print, "print", false, "as text, on a terminal too")
	return cmd
}

// openDocket opens the docket named first in the arguments, or the newest one, and
// says which.
func (a *app) openDocket(ctx context.Context, given []string) (*session.Session, *docket.Docket, error) {
	s, err := a.session()
	var none *workspace.Error
	if errors.As(err, &none) && len(given) > 0 && isDocket(given[0]) && !docketNumber.MatchString(given[0]) {
		// A docket file is complete in itself: an approver may have nothing else.
		if err := a.named(); err != nil {
			return nil, nil, err
		}
		a.Alone = given[0]
		s, err = &session.Session{Workspace: &workspace.Workspace{Dir: a.Dir}, Who: a.who(), Origin: a.origin(), Program: "anagram " +
			version(), Now: a.Now, Progress: a.progress(), Log: a.logger(), Dir: a.Dir, Environ: a.Environ, Config: a.config()}, nil
	}
	if err != nil {
		return nil, nil, err
	}
	name := ""
	if len(given) > 0 {
		name = given[0]
		if strings.ContainsAny(name, "/.") {
			name = a.path(name)
		}
	}
	d, err := s.OpenDocket(ctx, name)
	if err == nil && name == "" && !a.JSON {
		a.Note("The newest docket is %d.", d.Header.Number)
	}
	return s, d, err
}

// withImported is withDocket for commands about an import: the newest docket that was imported is meant
// where none is named.
func (a *app) withImported(do func(*cobra.Command, *session.Session, *docket.Docket) error) func(*cobra.Command, []string) error {
	return a.withNewest(do, (*session.Session).NewestImported)
}

// withDocket is for commands that work with one docket, the newest where none is named.
func (a *app) withDocket(do func(*cobra.Command, *session.Session, *docket.Docket) error) func(*cobra.Command, []string) error {
	return a.withNewest(do, nil)
}

// withNewest is withDocket with another docket where none is named, as long as newest gives one.
func (a *app) withNewest(do func(*cobra.Command, *session.Session, *docket.Docket) error,
	newest func(*session.Session, context.Context) (int, error)) func(*cobra.Command, []string) error {
	return a.run(func(cmd *cobra.Command, given []string) error {
		if err := arguments(cmd, given, 0, 1); err != nil {
			return err
		}
		if len(given) == 0 && newest != nil {
			s, err := a.session()
			if err != nil {
				return err
			}
			number, err := newest(s, cmd.Context())
			if err != nil {
				return err
			}
			if number != 0 {
				a.Note("The newest docket that was imported is %d.", number)
				given = []string{strconv.Itoa(number)}
			}
		}
		s, d, err := a.openDocket(cmd.Context(), given)
		if err != nil {
			return err
		}
		defer d.Close()
		return do(cmd, s, d)
	})
}
