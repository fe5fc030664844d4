package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/text"
)

func (a *app) reviewCommand() *cobra.Command {
	var statuses, types, only []string
	var all, removals bool
	cmd := &cobra.Command{
		Use:     "review [DOCKET]",
		Short:   "Show what a docket found: each record, field by field, with its checks",
		Example: "  anagram review 7 --status conflict\n  anagram review --only 'assay/GLU*'\n  anagram review --removals",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			_, d, err := a.openDocket(cmd.Context(), given)
			if err != nil {
				return err
			}
			defer d.Close()
			if removals {
				return a.printRemovals(cmd.Context(), d, only, types)
			}
			if a.json {
				encoder := json.NewEncoder(a.Out)
				encoder.SetEscapeHTML(false)
				return decide.Review(cmd.Context(), d, only, asStatuses(statuses), types, func(r decide.Reviewed) error {
					return encoder.Encode(reviewJSON(d.Header, r))
				})
			}
			return a.printReview(cmd.Context(), d, only, asStatuses(statuses), types, all)
		}),
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&statuses, "status", nil, "only findings with this status")
	flags.StringSliceVar(&types, "type", nil, "only this record type")
	flags.StringArrayVar(&only, "only", nil, "only records that fit this pattern")
	flags.BoolVar(&all, "all", false, "list what is without differences and what was not compared as well")
	flags.BoolVar(&removals, "removals", false, "list what only the target has, for a person to remove by hand")
	return cmd
}

// openDocket opens the docket named first in the arguments, or the newest one, and
// says which.
func (a *app) openDocket(ctx context.Context, given []string) (*session.Session, *docket.Docket, error) {
	s, err := a.session()
	var none *workspace.Error
	if errors.As(err, &none) && len(given) > 0 && isDocket(given[0]) && !docketNumber.MatchString(given[0]) {
		// A docket file is complete in itself: an approver may have nothing else.
		s, err = &session.Session{Workspace: &workspace.Workspace{Dir: a.Dir}, Who: a.who(), Origin: a.origin(), Program: "anagram " + version(), Now: a.Now, Progress: a.progress()}, nil
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

func asStatuses(words []string) []match.Status {
	var out []match.Status
	for _, word := range words {
		out = append(out, match.Status(word))
	}
	return out
}

type findingJSON struct {
	Address   string          `json:"address"`
	Was       string          `json:"target_address,omitempty"` // where the target has it under another one
	Type      string          `json:"type"`
	Title     string          `json:"title"`
	Status    match.Status    `json:"status"`
	Reasons   []match.Reason  `json:"reasons"`
	Decision  docket.Decision `json:"decision"`
	DecidedBy string          `json:"decided_by"`
	DecidedAt string          `json:"decided_at"`
	Note      string          `json:"note"`
	Carried   int             `json:"carried_from,omitempty"` // the docket that it was decided in first
	Fields    []docket.Field  `json:"fields"`
	Filled    []docket.Filled `json:"filled,omitempty"` // what the import gives it beside them
	Checks    []check.Check   `json:"checks"`
}

func reviewJSON(h docket.Header, r decide.Reviewed) findingJSON {
	out := findingJSON{Address: r.Address, Was: r.Was, Type: r.Type, Title: r.Title, Status: r.Status, Reasons: append([]match.Reason{}, r.Reasons...), Decision: r.Decision,
		DecidedBy: r.DecidedBy, DecidedAt: r.DecidedAt, Note: r.Note, Carried: r.CarriedFrom, Fields: append([]docket.Field{}, r.Fields...), Checks: append([]check.Check{}, r.Checks...)}
	if r.Adds() && !match.Hopeless(r.Reasons) {
		out.Filled = h.Fills[r.Type].New
	}
	return out
}

func (a *app) printReview(ctx context.Context, d *docket.Docket, only []string, statuses []match.Status, types []string, all bool) error {
	a.printHeader(d.Header)
	out := a.out()
	last, shown := "", 0
	var stamps []string
	err := decide.Review(ctx, d, only, statuses, types, func(r decide.Reviewed) error {
		if r.Type != last {
			if last != "" {
				fmt.Fprintln(out)
			}
			last = r.Type
			t, _ := d.Type(r.Type)
			fmt.Fprintln(out, strong.Render(r.Type)+faint.Render("  "+summary(t)))
		}
		shown++
		a.printFinding(d.Header, r)
		for _, stamp := range d.Header.Fills[r.Type].Changed {
			if r.Target != "" && r.Source != "" && !slices.Contains(stamps, stamp) {
				stamps = append(stamps, stamp)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if shown == 0 {
		fmt.Fprintln(out, "No finding fits.")
	}
	fmt.Fprintln(out)
	var rest []string
	for _, t := range d.Types {
		if !countsOf(t).differs() {
			rest = append(rest, fmt.Sprintf("%s (%d)", t.Name, t.Counts[match.Same]))
		}
	}
	if all {
		if len(rest) > 0 {
			fmt.Fprintln(out, a.wrap("Without differences: "+strings.Join(rest, ", "), "  "))
		}
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
	if len(stamps) > 0 {
		fmt.Fprintln(out, a.wrap("The import sets "+strings.Join(stamps, " and ")+" of what it changes where nothing else does.", ""))
	}
	printf(out, "%s shown. Decisions: %s.\n", count(shown, "finding"), tallyText(tally.Tally))
	printf(out, "Digest %s\n", digest[:16])
	a.nextStep(tally)
	return nil
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
		for _, field := range described.Ignore {
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

func summary(t docket.Type) string {
	var parts []string
	for _, status := range match.Statuses() {
		if n := t.Counts[status]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, status))
		}
	}
	return strings.Join(parts, ", ")
}

func tallyText(t docket.Tally) string {
	text := fmt.Sprintf("%d open, %d approved, %d declined, %d held", t.Open, t.Approved, t.Declined, t.Held)
	if t.Kept > 0 {
		text += fmt.Sprintf(", %d kept", t.Kept)
	}
	return text
}

// printFinding shows one record: its address, where it stands, and its fields with
// source and target side by side.
func (a *app) printFinding(h docket.Header, r decide.Reviewed) {
	out := a.out()
	head := "  " + strong.Render(r.Address)
	if r.Title != "" {
		head += "  " + show.Harmless(r.Title)
	}
	stand := tone(string(r.Status))
	if len(r.Reasons) > 0 {
		words := make([]string, len(r.Reasons))
		for i, reason := range r.Reasons {
			words[i] = string(reason)
		}
		stand += " (" + strings.Join(words, ", ") + ")"
	}
	stand += ", " + standText(h, r)
	fmt.Fprintln(out, ansi.Truncate(head, a.width(), "…"))
	fmt.Fprintln(out, a.wrap("    "+stand, ""))
	if r.Was != "" {
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("      %s in %s", r.Was, h.Target), ""))
	}
	switch {
	case r.Adds() || r.Status == match.TargetOnly:
		var parts []string
		for _, f := range r.Fields {
			value := f.Source
			if r.Status == match.TargetOnly {
				value = f.Target
			}
			text := f.Field + ": " + shorten(show.Readable(value), 400)
			if f.Decision != "" {
				text += " (" + f.Decision + ")"
			}
			parts = append(parts, text)
		}
		if len(parts) > 0 {
			fmt.Fprintln(out, a.wrap("      "+strings.Join(parts, "; "), ""))
		}
		if filled := h.Fills[r.Type].New; r.Adds() && len(filled) > 0 && !match.Hopeless(r.Reasons) {
			fmt.Fprintln(out, a.wrap("      the import gives it "+filledText(filled), ""))
		}
	default:
		a.printFields(h, r)
	}
	for _, c := range r.Checks {
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("      %s %s: %s %s", tone(string(c.Level)), c.Code, c.Message, c.Mend), "  "))
	}
}

// filledText says what an import gives a new record beside what the source brings.
func filledText(filled []docket.Filled) string {
	words := map[string]string{"time": "the time of the import", "person": "who imports"}
	var parts []string
	for _, f := range filled {
		parts = append(parts, f.Field+": "+cmp.Or(words[f.What], show.Readable(&f.Value)))
	}
	return strings.Join(parts, "; ")
}

func shorten(text string, most int) string { return ansi.Truncate(text, most, "…") }

func standText(h docket.Header, r decide.Reviewed) string {
	text := string(r.Decision)
	stand := r.Stand()
	if r.Decision == docket.Undecided && stand != docket.Approved {
		text = string(stand)
	}
	fields := r.ApprovedFields()
	chosen := slices.ContainsFunc(r.Fields, func(f docket.Field) bool {
		return slices.Contains(fields, f.Field) && r.Proposes(f) != match.Write
	})
	switch {
	case text == string(docket.TargetKept):
		text = h.Target + " keeps its values, approved"
	case stand != docket.Approved:
	case r.Adds():
		text = string(docket.Approved)
	default:
		text = string(docket.Approved)
		if n := len(fields); n < len(r.Fields) {
			text = fmt.Sprintf("%d of %s approved", n, count(len(r.Fields), "field"))
		}
		if chosen {
			text += " with the values of " + h.Source
		}
	}
	if r.DecidedBy != "" {
		text += " by " + r.DecidedBy + ", " + when(r.DecidedAt)
	}
	if r.CarriedFrom != 0 {
		text += fmt.Sprintf(", carried over from docket %d", r.CarriedFrom)
	}
	if r.Note != "" {
		text += ": " + show.Harmless(r.Note)
	}
	return text
}

// printFields shows the differing fields in columns; long values are wrapped in theirs.
func (a *app) printFields(h docket.Header, r decide.Reviewed) {
	if len(r.Fields) == 0 {
		return
	}
	known := slices.ContainsFunc(r.Fields, func(f docket.Field) bool { return f.AgreedKnown })
	heads := []string{h.Source, h.Target}
	if known {
		heads = append(heads, "agreed")
	}
	name := len("field")
	widest := 0
	for _, f := range r.Fields {
		name = max(name, ansi.StringWidth(f.Field))
		for _, v := range []*string{f.Source, f.Target, f.Agreed} {
			widest = max(widest, ansi.StringWidth(show.Readable(v)))
		}
	}
	for _, head := range heads {
		widest = max(widest, len(head))
	}
	const indent = 6
	decisions := 0
	if slices.ContainsFunc(r.Fields, func(f docket.Field) bool { return f.Decision != "" }) {
		decisions = len(docket.TargetKept) + 2
	}
	moved := 0
	if known {
		moved = len("source") + 2
	}
	room := (a.width()-indent-name-decisions-moved)/len(heads) - 2
	cell := max(min(widest, room), 10)
	widths := []int{name}
	for range heads {
		widths = append(widths, cell)
	}
	head := append([]string{"field"}, heads...)
	if known {
		widths, head = append(widths, moved-2), append(head, "moved")
	}
	widths = append(widths, max(decisions, 1))
	a.printLines(text.Columns(strings.Repeat(" ", indent), widths, head, faint.Render))
	for _, f := range r.Fields {
		cells := []string{f.Field, show.Readable(f.Source), show.Readable(f.Target)}
		if known {
			agreed := "not known"
			if f.AgreedKnown {
				agreed = show.Readable(f.Agreed)
			}
			cells = append(cells, agreed, f.Moved)
		}
		a.printLines(text.Columns(strings.Repeat(" ", indent), widths, append(cells, f.Decision), nil))
	}
}

// printRemovals lists what only the target has: an import never removes it.
func (a *app) printRemovals(ctx context.Context, d *docket.Docket, only, types []string) error {
	var list []decide.Reviewed
	err := decide.Review(ctx, d, only, []match.Status{match.TargetOnly}, types, func(r decide.Reviewed) error {
		if a.json {
			return a.printJSON(reviewJSON(d.Header, r))
		}
		r.Source, r.Target = "", ""
		list = append(list, r)
		return nil
	})
	if err != nil || a.json {
		return err
	}
	a.printHeader(d.Header)
	if len(list) == 0 {
		printf(a.Out, "Nothing is only in %s.\n", d.Header.Target)
		return nil
	}
	fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Only in %s. An import never removes a record; whoever wants one gone removes it by hand, parts before their owners.", d.Header.Target), ""))
	fmt.Fprintln(a.Out)
	t := text.Table{Columns: []string{"record", "title", "in " + d.Header.Source, "decision"}}
	for _, r := range slices.Backward(list) { // referring records before those that they refer to
		there := "not there"
		if slices.Contains(r.Reasons, match.RetiredInSource) {
			there = "out of scope"
		}
		t.Add(r.Address, shorten(show.Harmless(r.Title), 40), there, standText(d.Header, r))
	}
	a.printTable(t, "  ")
	return nil
}
