package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/history"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

// printLife tells one record's life over all dockets.
func (a *app) printLife(ctx context.Context, s *session.Session, address string) error {
	chapters, err := history.Life(ctx, s, address)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"address": address, "dockets": append([]history.Chapter{}, chapters...)})
	}
	found := slices.ContainsFunc(chapters, func(c history.Chapter) bool { return !c.Compared })
	if !found && len(chapters) == 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("No docket of this workspace has %s as a finding, and none compared all of its type.", address), ""))
		return nil
	}
	out := a.out()
	printf(out, "%s\n", strong.Render(show.Harmless(address)))
	if !found {
		last := chapters[len(chapters)-1]
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("No docket has it as a finding: it was the same on both sides, or on neither, last in docket %d, %s to %s, %s.", last.Docket, last.Source, last.Target, when(last.MatchedAt)), ""))
		return nil
	}
	for i, c := range chapters {
		if c.Compared { // only where it stands in the end, or first, is worth a line
			if i == len(chapters)-1 || i == 0 {
				fmt.Fprintln(out, a.wrap(fmt.Sprintf("%s  docket %d, %s to %s: no difference", when(c.MatchedAt), c.Docket, c.Source, c.Target), "    "))
			}
			continue
		}
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("%s  docket %d, %s to %s: %s, %s", when(c.MatchedAt), c.Docket, c.Source, c.Target, c.Status, decidedText(c)), "    "))
		if text := cameText(c); text != "" {
			fmt.Fprintln(out, a.wrap("    "+text, "    "))
		}
		for _, f := range c.Fields {
			fmt.Fprintln(out, a.wrap("      "+fieldText(c, f), "        "))
		}
	}
	for _, line := range standsNow(chapters) {
		fmt.Fprintln(out, a.wrap(line, "  "))
	}
	return nil
}

func decidedText(c history.Chapter) string {
	text := c.Decision
	if len(c.DecidedBy) > 0 {
		text += " by " + some(c.DecidedBy, 5)
	}
	if c.Note != "" {
		text += ": " + show.Harmless(c.Note)
	}
	return text
}

func cameText(c history.Chapter) string {
	switch c.Outcome {
	case docket.WasWritten:
		what := "changed in"
		if c.Added() {
			what = "came into"
		}
		if c.Removed() {
			what = "removed from"
		}
		return fmt.Sprintf("%s %s %s, imported by %s", what, c.Target, when(c.At), c.By)
	case docket.WasAlready:
		return fmt.Sprintf("was in %s as approved already, %s", c.Target, when(c.At))
	case docket.WasLeftOut:
		return fmt.Sprintf("was left out of the import of %s: %s", when(c.At), c.Why)
	default:
		return ""
	}
}

func fieldText(c history.Chapter, f docket.Field) string {
	value := func(text *string) string { return shorten(show.Readable(text), 60) }
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

// standsNow says for each target how far the record came there, by what is remembered.
func standsNow(chapters []history.Chapter) []string {
	var out []string
	var seen []string
	for _, c := range slices.Backward(chapters) {
		if slices.Contains(seen, c.Target) {
			continue
		}
		seen = append(seen, c.Target)
		text := ""
		switch {
		case c.Compared:
			text = fmt.Sprintf("as in %s when last compared, docket %d", c.Source, c.Docket)
		case c.Removed():
			text = fmt.Sprintf("removed, docket %d", c.Docket)
		case c.Outcome == docket.WasWritten || c.Outcome == docket.WasAlready:
			text = fmt.Sprintf("as approved in docket %d", c.Docket)
		default:
			text = fmt.Sprintf("%s, %s in docket %d", c.Status, c.Decision, c.Docket)
		}
		out = append(out, "Now in "+c.Target+": "+strings.TrimSpace(text)+".")
	}
	slices.Reverse(out)
	return out
}
