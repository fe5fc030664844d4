package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
)

// whichFlags are the flags that say which findings are meant.
type whichFlags struct{ statuses, decisions []string }

func (w *whichFlags) add(cmd *cobra.Command, which *decide.Which) {
	flags := cmd.Flags()
	flags.StringSliceVar(&w.statuses, "status", nil, "only findings with this status")
	flags.StringSliceVar(&which.Types, "type", nil, "only this record type")
	flags.StringSliceVar(&w.decisions, "decision", nil, "only findings that stand so: open, approved, declined, held, target-kept")
	flags.StringSliceVar(&which.By, "by", nil, "only findings that this person decided")
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
		which.Decisions = append(which.Decisions, docket.Decision(word))
	}
}

// reviewing is how a review is asked for.
type reviewing struct {
	which     decide.Which
	sort      string
	full, all bool
}

func (a *app) reviewCommand() *cobra.Command {
	var r reviewing
	var words whichFlags
	var removals, print bool
	var outFile string
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
			words.into(&r.which)
			s, d, err := a.openDocket(cmd.Context(), given)
			if err != nil {
				return err
			}
			defer d.Close()
			if outFile != "" {
				return a.writeReport(cmd.Context(), s, d, r.which, removals, outFile)
			}
			if removals {
				return a.printRemovals(cmd.Context(), s, d, r.which)
			}
			if a.json {
				return a.reviewJSON(cmd.Context(), s, d, r.which)
			}
			if a.interactive() && !print && !r.full && !r.all && !r.which.Any() && len(r.which.Patterns) == 0 && r.sort == "" {
				return a.reviewOnTerminal(cmd.Context(), s, d)
			}
			return a.paged(cmd.Context(), func() error { return a.printReview(cmd.Context(), s, d, r) })
		}),
	}
	words.add(cmd, &r.which)
	flags := cmd.Flags()
	flags.StringArrayVar(&r.which.Patterns, "only", nil, "only records that fit this pattern")
	flags.StringVar(&r.sort, "sort", "", "the order of groups: "+strings.Join(decide.Sorts(), ", "))
	flags.BoolVar(&r.full, "full", false, "show every record with its fields and checks")
	flags.BoolVar(&r.all, "all", false, "list what is without differences and what was not compared as well")
	flags.BoolVar(&removals, "removals", false, "list what only the target has, for a person to remove by hand")
	flags.StringVar(&outFile, "out", "", "write a report into this new file instead: .xlsx, .csv, .html or .jsonl")
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
		a.alone = given[0]
		s, err = &session.Session{Workspace: &workspace.Workspace{Dir: a.Dir}, Who: a.who(), Origin: a.origin(), Program: "anagram " + version(), Now: a.Now, Progress: a.progress(), Log: a.logger(), Dir: a.Dir, Environ: a.Environ, Config: a.config()}, nil
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
	if err == nil && name == "" && !a.json {
		a.note("The newest docket is %d.", d.Header.Number)
	}
	return s, d, err
}

// withDocket is for commands that work with one docket, the newest where none is named.
func (a *app) withDocket(do func(*cobra.Command, *session.Session, *docket.Docket) error) func(*cobra.Command, []string) error {
	return a.run(func(cmd *cobra.Command, given []string) error {
		if err := arguments(cmd, given, 0, 1); err != nil {
			return err
		}
		s, d, err := a.openDocket(cmd.Context(), given)
		if err != nil {
			return err
		}
		defer d.Close()
		return do(cmd, s, d)
	})
}

// called is how a command names a docket: by its number, or without a workspace by its file.
func (a *app) called(h docket.Header) string {
	if a.alone != "" {
		return show.Arg(a.alone)
	}
	return strconv.Itoa(h.Number)
}

type findingJSON struct {
	Address   string          `json:"address"`
	Was       string          `json:"target_address,omitempty"` // where the target has it under another one
	Type      string          `json:"type"`
	Title     string          `json:"title"`
	Group     string          `json:"group"` // the record that all of its group hang on
	Status    match.Status    `json:"status"`
	Reasons   []match.Reason  `json:"reasons"`
	Decision  docket.Decision `json:"decision"`
	DecidedBy string          `json:"decided_by"`
	DecidedAt string          `json:"decided_at"`
	Approvers []string        `json:"approvers"` // whose last word on the record is an approval
	ByRule    bool            `json:"by_rule,omitempty"`
	Before    int             `json:"approved_before,omitempty"` // the docket that approved it, as it still is
	Note      string          `json:"note"`
	Carried   int             `json:"carried_from,omitempty"` // the docket that it was decided in first
	Fields    []docket.Field  `json:"fields"`
	Filled    []docket.Filled `json:"filled,omitempty"` // what the import gives it beside them
	Checks    []check.Check   `json:"checks"`
	Comments  []commentJSON   `json:"comments"`
}

func (a *app) reviewJSON(ctx context.Context, s *session.Session, d *docket.Docket, which decide.Which) error {
	groups, err := d.Groups(ctx)
	if err != nil {
		return err
	}
	return decide.Review(ctx, s, d, which, func(r decide.Reviewed) error {
		return a.printJSON(findingAsJSON(d.Header, groups[r.Group-1], r))
	})
}

type commentJSON struct {
	By   string `json:"by"`
	At   string `json:"at"`
	Text string `json:"text"`
}

func findingAsJSON(h docket.Header, g docket.Group, r decide.Reviewed) findingJSON {
	out := findingJSON{Address: r.Address, Was: r.Was, Type: r.Type, Title: r.Title, Group: g.Address, Status: r.Status, Reasons: append([]match.Reason{}, r.Reasons...), Decision: r.Decision,
		DecidedBy: r.DecidedBy, DecidedAt: r.DecidedAt, Approvers: orEmpty(r.Approvers), ByRule: r.ByRule, Before: r.Before.Docket, Note: r.Note, Carried: r.CarriedFrom, Fields: append([]docket.Field{}, r.Fields...), Checks: append([]check.Check{}, r.Checks...), Comments: []commentJSON{}}
	for _, c := range r.Said {
		out.Comments = append(out.Comments, commentJSON{c.Who, c.At, c.Text})
	}
	if r.Adds() && !match.Hopeless(r.Reasons) {
		out.Filled = h.Fills[r.Type].New
	}
	return out
}

// printReview shows the findings that are meant: in full where they are asked for so or fit
// on a screen, else a line for each group.
func (a *app) printReview(ctx context.Context, s *session.Session, d *docket.Docket, r reviewing) error {
	groups, err := decide.Groups(ctx, s, d, r.which, r.sort)
	if err != nil {
		return err
	}
	a.printHeader(d.Header)
	if err := a.printBlocked(ctx, d); err != nil {
		return err
	}
	out := a.out()
	shown := 0
	for _, g := range groups {
		shown += g.Shown
	}
	switch {
	case shown == 0:
		fmt.Fprintln(out, a.wrap("No finding fits"+noneFits(ctx, s, d, r.which)+".", ""))
	case r.full || len(groups) == 1:
		err = a.printFull(ctx, s, d, r.which, groups)
	default:
		var lines []string
		if shown <= a.height() { // else it cannot fit
			var screen strings.Builder
			narrow := *a
			narrow.rawOut, narrow.screen = &screen, a.width()
			if err = narrow.printFull(ctx, s, d, r.which, groups); err == nil {
				lines = strings.Split(strings.TrimSuffix(screen.String(), "\n"), "\n")
			}
		}
		if err == nil && lines != nil && len(lines) <= a.height() {
			err = a.printFull(ctx, s, d, r.which, groups)
		} else if err == nil {
			a.printGroups(groups, r.sort)
			defer a.note("A group opens with: anagram review %s --group RECORD", a.called(d.Header))
		}
	}
	if err != nil {
		return err
	}
	fmt.Fprintln(out)
	if r.all {
		a.printSame(d)
		a.printNotCompared(d)
	}
	tally, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	what := count(shown, "finding")
	if len(groups) < shown {
		what += " in " + count(len(groups), "group")
	}
	fmt.Fprintln(out, a.wrap(fmt.Sprintf("%s. Decisions: %s.", what, tallyText(tally.Tally)), ""))
	printf(out, "Digest %s\n", digest[:16])
	a.nextStep(tally)
	return nil
}

// noneFits says why no finding fits, where that is known of the one record that was asked for.
func noneFits(ctx context.Context, s *session.Session, d *docket.Docket, which decide.Which) string {
	if len(which.Patterns) != 1 {
		return ""
	}
	p, err := record.ParsePattern(which.Patterns[0])
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(decide.Absent(ctx, s, d, p), ".")
}

// printBlocked says what a match found that stops the whole docket.
func (a *app) printBlocked(ctx context.Context, d *docket.Docket) error {
	checks, err := d.Checks(ctx)
	if err != nil {
		return err
	}
	said := false
	for _, c := range checks[0] {
		if c.Level == check.Blocker {
			fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("%s %s: %s %s", tone(string(c.Level)), c.Code, c.Message, c.Mend), "  "))
			said = true
		}
	}
	if said {
		fmt.Fprintln(a.out())
	}
	return nil
}

// printSame lists the types without differences.
func (a *app) printSame(d *docket.Docket) {
	var rest []string
	for _, t := range d.Types {
		if !countsOf(t).differs() {
			rest = append(rest, fmt.Sprintf("%s (%d)", t.Name, t.Counts[match.Same]))
		}
	}
	if len(rest) > 0 {
		fmt.Fprintln(a.out(), a.wrap("Without differences: "+strings.Join(rest, ", "), "  "))
	}
}

// printNotCompared lists what a match did not look at, so that it is not taken for the same.
func (a *app) printNotCompared(d *docket.Docket) {
	out := a.out()
	list := func(what string, names []string) {
		if len(names) > 0 {
			fmt.Fprintln(out, a.wrap(what+": "+strings.Join(names, ", "), "  "))
		}
	}
	list("Not compared, on one side only", d.Header.NotCompared)
	var ignored, local, secret []string
	for _, t := range d.Types {
		described, ok := d.Catalog.Type(t.Name)
		if !ok {
			continue
		}
		for _, field := range slices.Concat(described.Ignore, described.Everywhere) {
			ignored = append(ignored, t.Name+"."+field)
		}
		for _, field := range described.LocalFields() {
			local = append(local, t.Name+"."+field)
		}
		for _, field := range described.Secret {
			secret = append(secret, t.Name+"."+field)
		}
	}
	list("Not compared, ignored", ignored)
	list("Not compared, local", local)
	list("Not compared, secret", secret)
	var outside []string
	for _, t := range d.Types {
		if t.NotCompared > 0 {
			outside = append(outside, fmt.Sprintf("%s (%d)", t.Name, t.NotCompared))
		}
	}
	list("Records out of scope, not compared", outside)
}

func tallyText(t docket.Tally) string {
	text := fmt.Sprintf("%d open, %d approved, %d declined, %d held", t.Open, t.Approved, t.Declined, t.Held)
	if t.Kept > 0 {
		text += fmt.Sprintf(", %d kept", t.Kept)
	}
	return text
}
