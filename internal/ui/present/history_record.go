package present

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/audit"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/wire"
)

// Life tells one record's life over all dockets.
func Life(ctx context.Context, a *Page, s *session.Session, address string) error {
	chapters, err := audit.Life(ctx, s, address)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.RecordHistoryOf(address, chapters))
	}
	found := slices.ContainsFunc(chapters, func(c audit.Chapter) bool { return !c.Compared })
	if !found && len(chapters) == 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("No docket of this workspace has %s as a finding, and none compared all of its type.",
			address), ""))
		return nil
	}
	out := a.Coloured()
	Printf(out, "%s\n", Strong.Render(show.Harmless(address)))
	if !found {
		last := chapters[len(chapters)-1]
		fmt.Fprintln(out,
			a.Wrap(fmt.Sprintf("No docket has it as a finding: it was the same on both sides, or on neither, last in docket %d, %s to %s, %s.", last.Docket, last.Source, last.Target, When(last.MatchedAt)), ""))
		return nil
	}
	for i, c := range chapters {
		if c.Compared { // only where it stands in the end, or first, is worth a line
			if i == len(chapters)-1 || i == 0 {
				fmt.Fprintln(out, a.Wrap(fmt.Sprintf("%s  docket %d, %s to %s: the same on both sides, or on neither", When(c.MatchedAt), c.Docket, c.Source,
					c.Target), "    "))
			}
			continue
		}
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("%s  docket %d, %s to %s: %s, %s", When(c.MatchedAt), c.Docket, c.Source, c.Target,
			c.Status, decidedText(c)), "    "))
		if text := cameText(c); text != "" {
			fmt.Fprintln(out, a.Wrap("    "+text, "    "))
		}
		for _, f := range c.Fields {
			fmt.Fprintln(out, a.Wrap("      "+fieldText(c, f), "        "))
		}
	}
	for _, line := range standsNow(chapters) {
		fmt.Fprintln(out, a.Wrap(line, "  "))
	}
	return nil
}

func decidedText(c audit.Chapter) string {
	text := c.Decision
	if len(c.DecidedBy) > 0 {
		text += " by " + Some(c.DecidedBy, 5)
	}
	if c.Note != "" {
		text += ": " + show.Harmless(c.Note)
	}
	return text
}

func cameText(c audit.Chapter) string {
	switch c.Outcome {
	case run.WasWritten:
		what := "changed in"
		if c.Added() {
			what = "came into"
		}
		if c.Removed() {
			what = "removed from"
		}
		return fmt.Sprintf("%s %s %s, imported by %s", what, c.Target, When(c.At), c.By)
	case run.WasAlready:
		return fmt.Sprintf("was in %s as approved already, %s", c.Target, When(c.At))
	case run.WasLeftOut:
		return fmt.Sprintf("was left out of the import of %s: %s", When(c.At), c.Why)
	default:
		return ""
	}
}

func fieldText(c audit.Chapter, f docket.Field) string {
	value := func(text *string) string { return Shorten(show.Readable(text), 60) }
	switch {
	case c.Status == match.TargetOnly:
		return f.Field + ": " + value(f.Target)
	case f.Target == nil && (c.Added() || c.Status == match.New):
		return f.Field + ": " + value(f.Source)
	}
	text := fmt.Sprintf("%s: %s in %s, %s in %s", f.Field, value(f.Source), c.Source, value(f.Target), c.Target)
	if f.Decision != "" {
		text += " (" + f.Decision + ")"
	}
	return text
}

// lastKnown says how the target had the record, in words that are true of that time.
func lastKnown(c audit.Chapter) string {
	switch {
	case c.Compared:
		return "as in " + c.Source + ", or on neither side"
	case c.Removed():
		return "removed by the import"
	case c.Outcome == run.WasWritten:
		return "as approved, by the import"
	case c.Outcome == run.WasAlready:
		return "as approved, before the import"
	case c.Status == match.New || c.Added():
		return "not there; " + string(c.Status) + ", " + c.Decision
	case c.Status == match.TargetOnly:
		return "there, and not in " + c.Source
	default:
		return "there, with other values than in " + c.Source + "; " + string(c.Status) + ", " + c.Decision
	}
}

// standsNow says for each target how far the record came there, by what is remembered.
func standsNow(chapters []audit.Chapter) []string {
	var out []string
	var seen []string
	for _, c := range slices.Backward(chapters) {
		if slices.Contains(seen, c.Target) {
			continue
		}
		seen = append(seen, c.Target)
		out = append(out, fmt.Sprintf("Last known of %s, by docket %d: %s.", c.Target, c.Docket, lastKnown(c)))
	}
	slices.Reverse(out)
	return out
}
