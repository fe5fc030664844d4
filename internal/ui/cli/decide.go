package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/decision"
	"anagram/internal/core/pattern"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func approveCommand(a *app) *cobra.Command {
	return decideCommand(a, "approve", decision.Approved, "Approve findings: an import will write them")
}

func declineCommand(a *app) *cobra.Command {
	return decideCommand(a, "decline", decision.Declined, "Decline findings: they stay as they are in the target")
}

func holdCommand(a *app) *cobra.Command {
	return decideCommand(a, "hold", decision.Held, "Hold findings back for now")
}

func reopenCommand(a *app) *cobra.Command {
	return decideCommand(a, "reopen", decision.Undecided, "Take decisions back, so that the findings are open again")
}

func decideCommand(a *app, verb string, what decision.Decision, short string) *cobra.Command {
	r := decide.Request{Decision: what}
	var words whichFlags
	var beside string
	use := verb + " [DOCKET] PATTERN..."
	cmd := &cobra.Command{
		Use:   use,
		Short: short,
		Example: fmt.Sprintf("  anagram %s 7 assay/GLU 'assay_range/GLU/*' --note \"agreed with the laboratory\"\n"+
			"  anagram %s --status changed --type price_line\n  anagram %s --group assay/FCAL\n  anagram %s 'assay/*' --field price",
			verb, verb, verb, verb),
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			var which []string
			if len(given) > 0 && isDocket(given[0]) {
				which, given = given[:1], given[1:]
			}
			words.into(&r.Which)
			if len(given) == 0 && !r.Any() {
				return &session.UsageError{Message: "say which findings: a pattern such as assay/GLU or 'assay/*', --group, --status, --type, --decision, --by or --check; '*' is all of them"}
			}
			s, d, err := a.openDocket(cmd.Context(), which)
			if err != nil {
				return err
			}
			defer d.Close()
			if beside != "" {
				return bringBeside(cmd.Context(), a, s, d, given, beside, r)
			}
			r.Patterns = given
			result, err := decide.Decide(cmd.Context(), s, d, r)
			if err != nil {
				return err
			}
			return present.Decided(a.Page, r, d.Header, result)
		}),
	}
	words.add(cmd, &r.Which)
	flags := cmd.Flags()
	flags.StringVar(&r.Field, "field", "", "only this field of the findings")
	flags.BoolVar(&r.WithParts, "with-parts", false, "and the parts of these records, however deep")
	flags.StringVar(&r.Note, "note", "", "why, for those who read it later")
	if what == decision.Approved {
		flags.StringVar(&r.Take, "take", "", "whose values, where both sides changed or the target did: source or target")
		flags.StringVar(&beside, "beside", "", "bring this one record in under another key, next to the target's own")
		flags.BoolVar(&r.Overrule, "overrule", false, "approve what others declined or hold as well; needs --note")
		flags.BoolVar(&r.WithNeeds, "with-needs", false, "and the records of the docket that these need, however far")
	}
	if what != decision.Undecided {
		flags.BoolVar(&r.Again, "again", false, "decide anew what was decided before")
	}
	return cmd
}

// bringBeside remembers that a record comes in next to the target's own.
func bringBeside(ctx context.Context, a *app, s *session.Session, d *docket.Docket, given []string, other string, r decide.Request) error {
	switch {
	case len(given) != 1 || r.Any() || r.Field != "" || r.Take != "" || r.WithParts || r.WithNeeds || r.Again:
		return &session.UsageError{Message: "--beside goes with the address of one record and --note, and nothing else; its parts and what refers to it follow"}
	case a.Alone != "":
		return &session.UsageError{Message: "--beside needs the workspace: the other key is remembered there"}
	}
	p, err := decide.Beside(ctx, s, d, given[0], other, r.Note)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.Beside{Docket: d.Header.Number, Source: p.Source, Target: p.Target, Old: p.Old, New: p.New})
	}
	fmt.Fprintln(a.Out,
		a.Wrap(fmt.Sprintf("%s of %s comes into %s as %s from now on, beside the %s that is there; its parts and what refers to it follow. Nothing is approved by that: match again, and review it.", p.Old, p.Source, p.Target, p.New, p.Old), ""))
	a.Next("anagram match", present.Arg(d.Header.Parcel), "--against", present.Arg(d.Header.Target))
	return nil
}

var docketNumber = pattern.Of(`^[0-9]+$`)

func isDocket(arg string) bool {
	return docketNumber.MatchString(arg) || strings.HasSuffix(arg, ".docket")
}

// onTheWeb reports whether an environment is a service on the web.
func (a *app) onTheWeb(name string) bool {
	s, err := a.session()
	if err != nil {
		return false
	}
	e, err := s.Workspace.Environment(name)
	return err == nil && e.IsWeb()
}
