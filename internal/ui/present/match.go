package present

import (
	"fmt"
	"strings"
	"time"

	"anagram/internal/flow/loadfiles"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Match says what a match found, and what stands in its way.
func Match(a *Page, r matching.Result, loads []loadfiles.Confirmation) error {
	found := wire.MatchOf(r)
	a.Result = r
	if a.JSON {
		return a.PrintJSON(found)
	}
	Header(a, r.Header)
	printCounts(a, found.Types, found.Totals)
	for _, c := range r.Docket {
		fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf("%s %s: %s %s", Tone(string(c.Level)), c.Code, c.Message, c.Mend), "  "))
	}
	if r.Blockers+r.Cautions > 0 {
		Printf(a.Out, "%s, %s\n", Count(r.Blockers, "blocker"), Count(r.Cautions, "caution"))
	}
	if r.First != nil {
		fmt.Fprintln(a.Out, a.Wrap(firstMatch(r), ""))
	}
	if r.Carried > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s declined or held as before, as both sides are as they were.",
			Count(r.Carried, "finding")), ""))
	}
	if n := r.ApprovedBefore; n > 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("%s approved in an earlier docket, on values that both sides still have. To approve again: anagram approve %d --approved-before", Count(n, "finding"), r.Header.Number), ""))
	}
	if r.Gone > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s of the removal list of docket %d: no longer only in %s.", Count(r.Gone, "record"),
			r.Listed, r.Header.Target), ""))
	}
	if r.ByRule > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s decided by standing rules of anagram.yaml.", Count(r.ByRule, "finding")), ""))
	}
	if r.Uncarried != nil {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("Decisions of earlier dockets could not be filled in: %v. The docket stands all the same.",
				r.Uncarried), "  "))
	}
	if r.Forgotten != nil {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("It could not be remembered what both sides agree on: %v. The docket stands all the same; the next match finds it out.", r.Forgotten), "  "))
	}
	for _, c := range loads {
		if c.Missing == 0 {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("The load files of docket %d were loaded: %s as approved.", c.Docket,
				Count(c.Records, "record")), ""))
		} else {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("The load files of docket %d wait: %d of %s not in %s as approved.", c.Docket,
				c.Missing, Count(c.Records, "record"), r.Header.Target), ""))
		}
	}
	switch {
	case found.Totals.Differs():
		a.Next(fmt.Sprintf("anagram review %d", r.Header.Number))
	default:
		a.Note("Everything that was compared is the same.")
	}
	return nil
}

// firstMatch says what cannot be known, and how to tell it.
func firstMatch(r matching.Result) string {
	h := r.Header
	out := fmt.Sprintf("This is the first match of %s and %s, so it cannot be known who changed what differs.", h.Source, h.Target)
	if r.First.Latest.IsZero() {
		return out
	}
	return out + fmt.Sprintf(" If %s was copied from %s, say when under %s in anagram.yaml, and match again: made_from: {environment: %s, on: %s}. That is the last change that records which are the same on both sides have in common.",
		h.Source, h.Target, h.Source, h.Target, r.First.Latest.UTC().Format(time.RFC3339Nano))
}

// Header says what is compared with what: it stands on top of everything.
func Header(a *Page, h docket.Header) {
	out := a.Coloured()
	side := func(format string, args ...any) {
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf(format, args...), "          "))
	}
	fmt.Fprintln(out, Strong.Render(fmt.Sprintf("Docket %d", h.Number)))
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
		side("  from  %s  before the import of docket %d, %s", pad(source, target), h.Restores, When(h.ExportedAt))
	} else {
		side("  from  %s  parcel %s, %s %s by %s", pad(source, target), h.Parcel, made, When(h.ExportedAt), h.ExportedBy)
	}
	for _, r := range h.Resealed {
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("        edited, and sealed again %s by %s: %s", When(r.At), r.By, r.Note), ""))
	}
	if h.TargetParcel != "" {
		side("  to    %s  parcel %s, exported %s by %s", pad(target, source), h.TargetParcel, When(h.TargetExportedAt), h.TargetExportedBy)
		Printf(out, "        matched %s by %s\n\n", When(h.MatchedAt), h.MatchedBy)
		return
	}
	side("  to    %s  matched %s by %s", pad(target, source), When(h.MatchedAt), h.MatchedBy)
	for _, line := range shown.AroundTexts(h) {
		fmt.Fprintln(out, a.Wrap("        "+line, "  "))
	}
	fmt.Fprintln(out)
}

func pad(text, other string) string { return fmt.Sprintf("%-*s", max(len(text), len(other)), text) }

// printCounts shows types with differences, in dependency order; the others by number.
func printCounts(a *Page, types []wire.Counts, totals wire.Counts) {
	// A column that would hold nothing but zeros is left out, but never that of the
	// records that are the same.
	columns := []struct {
		name string
		of   func(wire.Counts) int
	}{
		{"conflict", func(c wire.Counts) int { return c.Conflict }}, {"changed", func(c wire.Counts) int { return c.Changed }},
		{"new", func(c wire.Counts) int { return c.New }}, {"target-edit", func(c wire.Counts) int { return c.TargetEdit }},
		{"target-only", func(c wire.Counts) int { return c.TargetOnly }}, {"same", func(c wire.Counts) int { return c.Same }},
		{"not compared", func(c wire.Counts) int { return c.NotCompared }},
	}
	t := text.Table{Columns: []string{"record type"}}
	for _, column := range columns {
		if column.of(totals) > 0 || column.name == "same" {
			t.Columns = append(t.Columns, ">"+column.name)
		}
	}
	row := func(name string, c wire.Counts) {
		cells := []string{name}
		for _, column := range columns {
			if column.of(totals) > 0 || column.name == "same" {
				cells = append(cells, dot(column.of(c)))
			}
		}
		t.Add(cells...)
	}
	same := wire.Counts{}
	sameTypes := 0
	for _, c := range types {
		if c.Differs() {
			row(c.Type, c)
		} else {
			sameTypes++
			same = same.Plus(c)
		}
	}
	if sameTypes > 0 {
		row(fmt.Sprintf("%s without differences", Count(sameTypes, "type")), same)
	}
	row("total", totals)
	a.PrintTable(t, "  ")
	fmt.Fprintln(a.Out)
}

// dot keeps zeros quiet, so that what is not zero is seen.
func dot(n int) string {
	if n == 0 {
		return "."
	}
	return fmt.Sprint(n)
}
