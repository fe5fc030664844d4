package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/export"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/library"
	"anagram/internal/flow/loadfiles"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

func (a *app) matchCommand() *cobra.Command {
	var r asked
	var against, agreed string
	cmd := &cobra.Command{
		Use:   "match P --against ENV_OR_PARCEL",
		Short: "Compare a parcel with an environment or another parcel, by key",
		Long: `Compares the records of a parcel with those of an environment, by key, and makes
a docket of what differs. Nothing is written to the environment. P is the name of a
parcel, a path to one, - for one on standard input, or an environment, which is then
exported first. With a parcel to compare with, neither side needs to be reached.`,
		Example: "  anagram match january --against production\n  anagram match sandbox --against production --area prices",
		RunE: a.step(1, 1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			if against == "" {
				return &session.UsageError{Message: "match needs --against, the environment or parcel to compare with"}
			}
			name := given[0]
			if name == "-" {
				received, err := library.Receive(cmd.Context(), s, a.In)
				if err != nil {
					return err
				}
				a.note("Kept the parcel from standard input in the library as %s.", received)
				name = received
			}
			if _, err := s.Workspace.Environment(name); err == nil {
				if err := matching.CanMatch(s, against); err != nil {
					return err
				}
				r.Environment, r.Target = name, against
				request, err := a.request(s, &r)
				if err != nil {
					return err
				}
				exported, err := export.Export(cmd.Context(), s, request)
				if err != nil {
					return a.withoutMissing(err, request.Selection.Saved)
				}
				if err := a.keep(s, &r, request); err != nil {
					return err
				}
				name = exported.Manifest.Name
				a.note("Exported %s from %s into parcel %s.", count(exported.Manifest.Records(), "record"), r.Environment, name)
			} else if flag := firstChanged(cmd, exportFlags...); flag != "" {
				return &session.UsageError{Message: fmt.Sprintf("--%s is for an export; %s is no environment, so nothing is exported. Leave it out", flag, name)}
			}
			// What is known of the target comes first.
			if _, err := s.Workspace.Environment(against); err == nil {
				settled, due, err := importing.Settle(cmd.Context(), s, against)
				if err != nil {
					return err
				}
				for _, number := range due {
					a.note("%s", dueText(number, against))
				}
				for _, one := range settled {
					a.note("%s", settledText(one, against))
				}
			}
			result, err := matching.Match(cmd.Context(), s, matching.Request{Parcel: name, Against: against, Agreed: agreed, Fresh: r.Environment != ""})
			if err != nil {
				return err
			}
			var loads []loadfiles.Confirmation
			if result.Header.TargetParcel == "" {
				if loads, err = loadfiles.Confirm(cmd.Context(), s, result.Header.Target); err != nil {
					return err
				}
			}
			return a.printMatch(result, loads)
		}),
	}
	selectionFlags(cmd, &r)
	cmd.Flags().StringVar(&agreed, "agreed", "", "a parcel with what both sides last had in common (else what was remembered)")
	cmd.Flags().StringVar(&against, "against", "", "the environment or parcel to compare with")
	return cmd
}

func firstChanged(cmd *cobra.Command, names ...string) string {
	for _, name := range names {
		if cmd.Flags().Changed(name) {
			return name
		}
	}
	return ""
}

// statusCounts is how counts stand in JSON.
type statusCounts struct {
	Type        string `json:"type,omitempty"`
	New         int    `json:"new"`
	Changed     int    `json:"changed"`
	Conflict    int    `json:"conflict"`
	TargetEdit  int    `json:"target_edit"`
	TargetOnly  int    `json:"target_only"`
	Same        int    `json:"same"`
	NotCompared int    `json:"not_compared"`
}

func countsOf(t docket.Type) statusCounts {
	n := t.Counts
	return statusCounts{Type: t.Name, New: n[match.New], Changed: n[match.Changed], Conflict: n[match.Conflict],
		TargetEdit: n[match.TargetEdit], TargetOnly: n[match.TargetOnly], Same: n[match.Same], NotCompared: t.NotCompared}
}

func (c statusCounts) plus(o statusCounts) statusCounts {
	return statusCounts{New: c.New + o.New, Changed: c.Changed + o.Changed, Conflict: c.Conflict + o.Conflict, TargetEdit: c.TargetEdit + o.TargetEdit,
		TargetOnly: c.TargetOnly + o.TargetOnly, Same: c.Same + o.Same, NotCompared: c.NotCompared + o.NotCompared}
}

func (c statusCounts) differs() bool {
	return c.New+c.Changed+c.Conflict+c.TargetEdit+c.TargetOnly+c.NotCompared > 0
}

func (a *app) printMatch(r matching.Result, loads []loadfiles.Confirmation) error {
	var totals statusCounts
	types := []statusCounts{}
	for _, t := range r.Types {
		types = append(types, countsOf(t))
		totals = totals.plus(countsOf(t))
	}
	a.result = r
	if a.json {
		return a.printJSON(map[string]any{
			"docket": r.Header.Number, "parcel": r.Header.Parcel, "source": r.Header.Source, "target": r.Header.Target,
			"types": types, "totals": totals, "blockers": r.Blockers, "cautions": r.Cautions, "carried": r.Carried, "by_rule": r.ByRule, "open": r.Open, "gone": r.Gone, "approved_before": r.ApprovedBefore, "checks": append([]check.Check{}, r.Docket...),
		})
	}
	a.printHeader(r.Header)
	a.printCounts(types, totals)
	for _, c := range r.Docket {
		fmt.Fprintln(a.out(), a.wrap(fmt.Sprintf("%s %s: %s %s", tone(string(c.Level)), c.Code, c.Message, c.Mend), "  "))
	}
	if r.Blockers+r.Cautions > 0 {
		printf(a.Out, "%s, %s\n", count(r.Blockers, "blocker"), count(r.Cautions, "caution"))
	}
	if r.Carried > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s declined or held as before, as both sides are as they were.", count(r.Carried, "finding")), ""))
	}
	if n := r.ApprovedBefore; n > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s approved in an earlier docket, on values that both sides still have. To approve again: anagram approve %d --approved-before", count(n, "finding"), r.Header.Number), ""))
	}
	if r.Gone > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s of the removal list of docket %d: no longer only in %s.", count(r.Gone, "record"), r.Listed, r.Header.Target), ""))
	}
	if r.ByRule > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s decided by standing rules of anagram.yaml.", count(r.ByRule, "finding")), ""))
	}
	if r.Uncarried != nil {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("Decisions of earlier dockets could not be filled in: %v. The docket stands all the same.", r.Uncarried), "  "))
	}
	if r.Forgotten != nil {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("It could not be remembered what both sides agree on: %v. The docket stands all the same; the next match finds it out.", r.Forgotten), "  "))
	}
	for _, c := range loads {
		if c.Missing == 0 {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("The load files of docket %d were loaded: %s as approved.", c.Docket, count(c.Records, "record")), ""))
		} else {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("The load files of docket %d wait: %d of %s not in %s as approved.", c.Docket, c.Missing, count(c.Records, "record"), r.Header.Target), ""))
		}
	}
	switch {
	case totals.differs():
		a.next(fmt.Sprintf("anagram review %d", r.Header.Number))
	default:
		a.note("Everything that was compared is the same.")
	}
	return nil
}

// printHeader says what is compared with what: it stands on top of everything.
func (a *app) printHeader(h docket.Header) {
	out := a.out()
	side := func(format string, args ...any) {
		fmt.Fprintln(out, a.wrap(fmt.Sprintf(format, args...), "          "))
	}
	fmt.Fprintln(out, strong.Render(fmt.Sprintf("Docket %d", h.Number)))
	source, target := h.Source, h.Target
	if h.TargetParcel != "" {
		target = strings.TrimSuffix(target, " (parcel "+h.TargetParcel+")")
	}
	made := "exported"
	if h.ByHand {
		made = "made by hand"
	}
	if h.Restores != 0 {
		source = fmt.Sprintf("%s as it was", h.Target)
		side("  from  %s  before the import of docket %d, %s", pad(source, target), h.Restores, when(h.ExportedAt))
	} else {
		side("  from  %s  parcel %s, %s %s by %s", pad(source, target), h.Parcel, made, when(h.ExportedAt), h.ExportedBy)
	}
	for _, r := range h.Resealed {
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("        edited, and sealed again %s by %s: %s", when(r.At), r.By, r.Note), ""))
	}
	if h.TargetParcel != "" {
		side("  to    %s  parcel %s, exported %s by %s", pad(target, source), h.TargetParcel, when(h.TargetExportedAt), h.TargetExportedBy)
		printf(out, "        matched %s by %s\n\n", when(h.MatchedAt), h.MatchedBy)
		return
	}
	side("  to    %s  matched %s by %s", pad(target, source), when(h.MatchedAt), h.MatchedBy)
	for _, line := range decide.AroundTexts(h) {
		fmt.Fprintln(out, a.wrap("        "+line, "  "))
	}
	fmt.Fprintln(out)
}

func pad(text, other string) string { return fmt.Sprintf("%-*s", max(len(text), len(other)), text) }

// printCounts shows types with differences, in dependency order; the others by number.
func (a *app) printCounts(types []statusCounts, totals statusCounts) {
	// A column that would hold nothing but zeros is left out, but never that of the
	// records that are the same.
	columns := []struct {
		name string
		of   func(statusCounts) int
	}{
		{"conflict", func(c statusCounts) int { return c.Conflict }}, {"changed", func(c statusCounts) int { return c.Changed }},
		{"new", func(c statusCounts) int { return c.New }}, {"target-edit", func(c statusCounts) int { return c.TargetEdit }},
		{"target-only", func(c statusCounts) int { return c.TargetOnly }}, {"same", func(c statusCounts) int { return c.Same }},
		{"not compared", func(c statusCounts) int { return c.NotCompared }},
	}
	t := text.Table{Columns: []string{"record type"}}
	for _, column := range columns {
		if column.of(totals) > 0 || column.name == "same" {
			t.Columns = append(t.Columns, ">"+column.name)
		}
	}
	row := func(name string, c statusCounts) {
		cells := []string{name}
		for _, column := range columns {
			if column.of(totals) > 0 || column.name == "same" {
				cells = append(cells, dot(column.of(c)))
			}
		}
		t.Add(cells...)
	}
	same := statusCounts{}
	sameTypes := 0
	for _, c := range types {
		if c.differs() {
			row(c.Type, c)
		} else {
			sameTypes++
			same = same.plus(c)
		}
	}
	if sameTypes > 0 {
		row(fmt.Sprintf("%s without differences", count(sameTypes, "type")), same)
	}
	row("total", totals)
	a.printTable(t, "  ")
	fmt.Fprintln(a.Out)
}

// dot keeps zeros quiet, so that what is not zero is seen.
func dot(n int) string {
	if n == 0 {
		return "."
	}
	return fmt.Sprint(n)
}
