package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/pattern"
	"anagram/internal/core/show"
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

func (a *app) reopenCommand() *cobra.Command {
	return a.decideCommand("reopen", docket.Undecided, "Take decisions back, so that the findings are open again")
}

func (a *app) decideCommand(verb string, decision docket.Decision, short string) *cobra.Command {
	r := decide.Request{Decision: decision}
	var words whichFlags
	var beside string
	use := verb + " [DOCKET] PATTERN..."
	cmd := &cobra.Command{
		Use:   use,
		Short: short,
		Example: fmt.Sprintf("  anagram %s 7 assay/GLU 'assay_range/GLU/*' --note \"agreed with the laboratory\"\n"+
			"  anagram %s --status changed --type price_line\n  anagram %s --group assay/FCAL\n  anagram %s 'assay/*' --field price", verb, verb, verb, verb),
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
				return a.bringBeside(cmd.Context(), s, d, given, beside, r)
			}
			r.Patterns = given
			result, err := decide.Decide(cmd.Context(), s, d, r)
			if err != nil {
				return err
			}
			return a.printDecided(r, d.Header, result)
		}),
	}
	words.add(cmd, &r.Which)
	flags := cmd.Flags()
	flags.StringVar(&r.Field, "field", "", "only this field of the findings")
	flags.BoolVar(&r.WithParts, "with-parts", false, "and the parts of these records, however deep")
	flags.StringVar(&r.Note, "note", "", "why, for those who read it later")
	if decision == docket.Approved {
		flags.StringVar(&r.Take, "take", "", "whose values, where both sides changed or the target did: source or target")
		flags.StringVar(&beside, "beside", "", "bring this one record in under another key, next to the target's own")
		flags.BoolVar(&r.WithNeeds, "with-needs", false, "and the records of the docket that these need, however far")
	}
	if decision != docket.Undecided {
		flags.BoolVar(&r.Again, "again", false, "decide anew what was decided before")
	}
	return cmd
}

// bringBeside remembers that a record comes in next to the target's own.
func (a *app) bringBeside(ctx context.Context, s *session.Session, d *docket.Docket, given []string, other string, r decide.Request) error {
	switch {
	case len(given) != 1 || r.Any() || r.Field != "" || r.Take != "" || r.WithParts || r.WithNeeds || r.Again:
		return &session.UsageError{Message: "--beside goes with the address of one record and --note, and nothing else; its parts and what refers to it follow"}
	case a.alone != "":
		return &session.UsageError{Message: "--beside needs the workspace: the other key is remembered there"}
	}
	p, err := decide.Beside(ctx, s, d, given[0], other, r.Note)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"docket": d.Header.Number, "source": p.Source, "target": p.Target, "old": p.Old, "new": p.New})
	}
	fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s of %s comes into %s as %s from now on, beside the %s that is there; its parts and what refers to it follow. Nothing is approved by that: match again, and review it.", p.Old, p.Source, p.Target, p.New, p.Old), ""))
	a.next("anagram match", arg(d.Header.Parcel), "--against", arg(d.Header.Target))
	return nil
}

var docketNumber = pattern.Of(`^[0-9]+$`)

func isDocket(arg string) bool {
	return docketNumber.MatchString(arg) || strings.HasSuffix(arg, ".docket")
}

func (a *app) printDecided(r decide.Request, h docket.Header, result decide.Result) error {
	if a.json {
		return a.printJSON(map[string]any{"docket": h.Number, "decision": r.Decision, "take": r.Take, "kept_fields": result.KeptFields, "decided": result.Decided, "by_status": result.ByStatus,
			"with_parts": orEmpty(result.Parts), "with_needs": orEmpty(result.Needed),
			"passed_over": result.PassedOver, "kept": result.Kept, "blocked": blockedJSON(result.Blocked), "newly_blocked": blockedJSON(result.Newly), "no_longer_blocked": blockedJSON(result.Freed),
			"open": result.Now.Tally.Open, "approved": result.Now.Tally.Approved,
			"declined": result.Now.Tally.Declined, "held": result.Now.Tally.Held, "target_kept": result.Now.Tally.Kept})
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
		done := string(r.Decision)
		if r.Decision == docket.Undecided {
			done = "opened again"
			if result.Decided == 0 {
				done = "opened again; what was named is open as it is"
			}
		}
		printf(a.Out, "%s of docket %d %s%s.\n", what, h.Number, done, of)
	}
	for _, along := range []struct {
		what      string
		addresses []string
	}{{"part", result.Parts}, {"record that they need", result.Needed}} {
		if n := len(along.addresses); n > 0 {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s among them: %s.", show.Count(n, along.what, strings.Replace(along.what, "record", "records", 1)+map[bool]string{true: "s"}[along.what == "part"]), some(along.addresses, 12)), "  "))
		}
	}
	if result.Kept > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s decided otherwise before: left as decided. Name a record in full, or use --again, to decide anew.", count(result.Kept, "finding")), "  "))
	}
	if n := result.KeptFields; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s declined or held before: left as decided. Name it with --field, or use --again, to decide anew.", count(n, "field")), "  "))
	}
	if n := result.PassedOver[match.TargetOnly]; n > 0 && h.Restores != 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: to have records removed that the import of docket %d made, name them in full, or say --take source. See: anagram review %s --status target-only", count(n, "created-here finding"), h.Restores, a.called(h)), "  "))
	} else if n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: an import never removes what only %s has. See: anagram review %s --removals", count(n, "target-only finding"), h.Target, a.called(h)), "  "))
	}
	if n := result.PassedOver[match.Conflict]; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: say whose values are right with --take source or --take target; a key that occurs twice, or is held outside, has to be mended first. See: anagram review %s --status conflict", count(n, "conflict"), a.called(h)), "  "))
	}
	if n := result.PassedOver[match.TargetEdit]; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s passed over: only the target changed them, so nothing is proposed. --take source takes the source's values all the same.", count(n, "target-edit finding")), "  "))
	}
	a.printInTheWay(h, result)
	printf(a.Out, "Decisions in docket %d: %s.\n", h.Number, tallyText(result.Now.Tally))
	a.nextStep(result.Now)
	return nil
}

func blockedJSON(records []decide.BlockedRecord) []map[string]any {
	out := []map[string]any{}
	for _, b := range records {
		out = append(out, map[string]any{"address": b.Address, "checks": b.Checks})
	}
	return out
}

// printInTheWay says what a decision changed about what stands in the way of approved
// records: each cause once, with the number of records it holds up.
func (a *app) printInTheWay(h docket.Header, result decide.Result) {
	if n := len(result.Newly); n > 0 {
		printf(a.Out, "%s cannot be imported as things stand now:\n", count(n, "approved record"))
		for i, c := range causes(result.Newly) {
			const most = 10
			if i == most {
				printf(a.Out, "  and more; see: anagram review %s --decision approved --full\n", a.called(h))
				break
			}
			more := ""
			if c.n > 1 {
				more = fmt.Sprintf(" So it is with %s.", show.Count(c.n-1, "more record", ""))
			}
			fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("  %s: %s%s %s", tone(string(c.Code)), c.Message, more, c.Mend), "  "))
		}
	}
	if n := len(result.Freed); n > 0 {
		var addresses []string
		for _, b := range result.Freed {
			addresses = append(addresses, b.Address)
		}
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("No longer in the way: %s of %s.", some(codesOf(result.Freed), 5), some(addresses, 8)), "  "))
	}
	if more := len(result.Blocked) - len(result.Newly); more > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s as before; see: anagram review %s --decision approved --full", show.Count(more, "approved record is held up", "approved records are held up"), a.called(h)), "  "))
	}
}

type cause struct {
	check.Check
	n int // records
}

// causes gives what is in the way, once for each cause.
func causes(records []decide.BlockedRecord) []cause {
	var out []cause
	at := map[string]int{}
	for _, b := range records {
		for _, c := range b.Checks {
			key := string(c.Code) + "\n" + c.Mend
			if i, known := at[key]; known && c.Shared() {
				out[i].n++
				continue
			}
			at[key] = len(out)
			out = append(out, cause{c, 1})
		}
	}
	return out
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

// nextStep names the sensible next command for a docket.
func (a *app) nextStep(s docket.Summary) {
	n := s.Header.Number
	imported := len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Outcome == docket.Imported
	rehearsed := len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Outcome == docket.Rehearsed
	switch {
	case a.alone != "" && s.Tally.Open > s.Tally.Stuck:
		a.next("anagram approve", arg(a.alone), "PATTERN, or decline, or hold")
	case a.alone != "":
		a.note("Send %s back to whoever works with the docket; there it is read in with: anagram decide %d --from FILE", a.alone, n)
	case imported && s.Tally.Open == s.Tally.Stuck:
		a.matchAgain(s.Header)
	case s.Tally.Open > s.Tally.Stuck:
		a.next(fmt.Sprintf("anagram approve %d PATTERN, or decline, or hold", n))
	case s.Tally.Approved > 0 && (rehearsed || a.isWeb(s.Header.Target)): // a service cannot rehearse
		a.next(fmt.Sprintf("anagram import %d", n))
	case s.Tally.Approved > 0:
		// Conflicts wait for another match; what is approved need not.
		a.next(fmt.Sprintf("anagram import %d --rehearse", n))
	}
}

// isWeb reports whether an environment is a service on the web.
func (a *app) isWeb(name string) bool {
	s, err := a.session()
	if err != nil {
		return false
	}
	e, err := s.Workspace.Environment(name)
	return err == nil && e.IsWeb()
}

// matchAgain names the command that looks how things stand after an import.
func (a *app) matchAgain(h docket.Header) {
	if h.Restores > 0 {
		a.next(fmt.Sprintf("anagram prove %d", h.Number))
		return
	}
	a.next("anagram match", arg(h.Parcel), "--against", arg(h.Target))
}
