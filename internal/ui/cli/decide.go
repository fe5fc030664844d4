package cli

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

func (a *app) approveCommand() *cobra.Command {
	return a.decideCommand("approve", docket.Approved, "Approve findings: an import will write them")
}

func (a *app) declineCommand() *cobra.Command {
	return a.decideCommand("decline", docket.Declined, "Decline findings: they stay as they are in the target")
}

func (a *app) holdCommand() *cobra.Command {
	return a.decideCommand("hold", docket.Held, "Hold findings back for now")
}

func (a *app) decideCommand(verb string, decision docket.Decision, short string) *cobra.Command {
	r := decide.Request{Decision: decision}
	var statuses []string
	use := verb + " [DOCKET] PATTERN..."
	cmd := &cobra.Command{
		Use:   use,
		Short: short,
		Example: fmt.Sprintf("  anagram %s 7 assay/GLU 'assay_range/GLU/*' --note \"agreed with the laboratory\"\n"+
			"  anagram %s --status changed --type price_line\n  anagram %s 'assay/*' --field price", verb, verb, verb),
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			var which []string
			if len(given) > 0 && isDocket(given[0]) {
				which, given = given[:1], given[1:]
			}
			if len(given) == 0 && len(statuses)+len(r.Types) == 0 {
				return &session.UsageError{Message: "say which findings: a pattern such as assay/GLU or 'assay/*', --status or --type; '*' is all of them"}
			}
			s, d, err := a.openDocket(cmd.Context(), which)
			if err != nil {
				return err
			}
			defer d.Close()
			r.Patterns, r.Statuses = given, asStatuses(statuses)
			result, err := decide.Decide(cmd.Context(), s, d, r)
			if err != nil {
				return err
			}
			summary, err := docket.Summarize(cmd.Context(), d)
			if err != nil {
				return err
			}
			return a.printDecided(r, d.Header, result, summary)
		}),
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&statuses, "status", nil, "only findings with this status")
	flags.StringSliceVar(&r.Types, "type", nil, "only this record type")
	flags.StringVar(&r.Field, "field", "", "only this field of the findings")
	if decision == docket.Approved {
		flags.StringVar(&r.Take, "take", "", "whose values, where both sides changed or the target did: source or target")
	}
	flags.BoolVar(&r.Again, "again", false, "decide anew what was decided before")
	flags.StringVar(&r.Note, "note", "", "why, for those who read it later")
	return cmd
}

var docketNumber = regexp.MustCompile(`^[0-9]+$`)

func isDocket(arg string) bool {
	return docketNumber.MatchString(arg) || strings.HasSuffix(arg, ".docket")
}

func (a *app) printDecided(r decide.Request, h docket.Header, result decide.Result, summary docket.Summary) error {
	if a.json {
		blocked := []map[string]any{}
		for _, b := range result.Blocked {
			blocked = append(blocked, map[string]any{"address": b.Address, "checks": b.Checks})
		}
		return a.printJSON(map[string]any{"docket": h.Number, "decision": r.Decision, "take": r.Take, "kept_fields": result.KeptFields, "decided": result.Decided, "by_status": result.ByStatus,
			"passed_over": result.PassedOver, "kept": result.Kept, "blocked": blocked, "open": summary.Tally.Open, "approved": summary.Tally.Approved,
			"declined": summary.Tally.Declined, "held": summary.Tally.Held, "target_kept": summary.Tally.Kept})
	}
	what := count(result.Decided, "finding")
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
		printf(a.Out, "%s of docket %d approved with the values of %s%s.\n", what, h.Number, h.Source, of)
	case decide.TakeTarget:
		printf(a.Out, "%s of docket %d settled: %s keeps its values%s.\n", what, h.Number, h.Target, of)
	default:
		printf(a.Out, "%s of docket %d %s%s.\n", what, h.Number, r.Decision, of)
	}
	if result.Kept > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s decided otherwise before: left as decided. Name a record in full, or use --again, to decide anew.", count(result.Kept, "finding")), "  "))
	}
	if n := result.KeptFields; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s declined or held before: left as decided. Name it with --field, or use --again, to decide anew.", count(n, "field")), "  "))
	}
	if n := result.PassedOver[match.TargetOnly]; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: an import never removes what only %s has. See: anagram review %d --removals", count(n, "target-only finding"), h.Target, h.Number), "  "))
	}
	if n := result.PassedOver[match.Conflict]; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: say whose values are right with --take source or --take target; a key that occurs twice, or is held outside, has to be mended first. See: anagram review %d --status conflict", count(n, "conflict"), h.Number), "  "))
	}
	if n := result.PassedOver[match.TargetEdit]; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: only the target changed them, so nothing is proposed. --take source takes the source's values all the same.", count(n, "target-edit finding")), "  "))
	}
	if len(result.Blocked) > 0 {
		printf(a.Out, "%s cannot be imported as things stand:\n", count(len(result.Blocked), "approved record"))
		const most = 10
		for i, b := range result.Blocked {
			if i == most {
				printf(a.Out, "  and %d more; see: anagram review %d\n", len(result.Blocked)-most, h.Number)
				break
			}
			for _, c := range b.Checks {
				fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("  %s: %s %s", tone(string(c.Code)), c.Message, c.Mend), "  "))
			}
		}
	}
	printf(a.Out, "Decisions in docket %d: %s.\n", h.Number, tallyText(summary.Tally))
	a.nextStep(summary)
	return nil
}

// nextStep names the sensible next command for a docket.
func (a *app) nextStep(s docket.Summary) {
	n := s.Header.Number
	imported := len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Outcome == docket.Imported
	rehearsed := len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Outcome == docket.Rehearsed
	switch {
	case imported:
		a.next("anagram match", arg(s.Header.Parcel), "--against", arg(s.Header.Target))
	case s.Tally.Open > s.Tally.Stuck:
		a.next(fmt.Sprintf("anagram approve %d PATTERN, or decline, or hold", n))
	case s.Tally.Approved > 0 && rehearsed:
		a.next(fmt.Sprintf("anagram import %d", n))
	case s.Tally.Approved > 0:
		// Conflicts wait for another match; what is approved need not.
		a.next(fmt.Sprintf("anagram import %d --rehearse", n))
	}
}
