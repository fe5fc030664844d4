package present

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/wire"
)

// Reviewing is how a review is asked for.
type Reviewing struct {
	Which     decide.Which
	Sort      string
	Full, All bool
}

// called is how a command names a docket: by its number, or without a workspace by its file.
func (a *Page) called(h docket.Header) string {
	if a.Alone != "" {
		return show.Arg(a.Alone)
	}
	return strconv.Itoa(h.Number)
}

// ReviewJSON prints a document for each finding that is meant.
func ReviewJSON(ctx context.Context, a *Page, s *session.Session, d *docket.Docket, which decide.Which) error {
	groups, err := d.Found.Groups(ctx)
	if err != nil {
		return err
	}
	return decide.Review(ctx, s, d, which, func(r decide.Reviewed) error {
		return a.PrintJSON(wire.FindingOf(d.Header, groups[r.Group-1], r))
	})
}

// Review shows the findings that are meant: in full where they are asked for so or fit
// on a screen, else a line for each group.
func Review(ctx context.Context, a *Page, s *session.Session, d *docket.Docket, r Reviewing) error {
	groups, err := decide.Groups(ctx, s, d, r.Which, r.Sort)
	if err != nil {
		return err
	}
	Header(a, d.Header)
	if err := Blocked(ctx, a, d); err != nil {
		return err
	}
	out := a.Coloured()
	shown := 0
	for _, g := range groups {
		shown += g.Shown
	}
	switch {
	case shown == 0:
		fmt.Fprintln(out, a.Wrap("No finding fits"+noneFits(ctx, s, d, r.Which)+".", ""))
	case r.Full || len(groups) == 1:
		err = printFull(ctx, a, s, d, r.Which, groups)
	default:
		var lines []string
		if shown <= a.height() { // else it cannot fit
			var screen strings.Builder
			narrow := *a
			narrow.RawOut, narrow.screen = &screen, a.Width()
			if err = printFull(ctx, &narrow, s, d, r.Which, groups); err == nil {
				lines = strings.Split(strings.TrimSuffix(screen.String(), "\n"), "\n")
			}
		}
		if err == nil && lines != nil && len(lines) <= a.height() {
			err = printFull(ctx, a, s, d, r.Which, groups)
		} else if err == nil {
			printGroups(a, groups, r.Sort)
			defer a.Note("A group opens with: anagram review %s --group RECORD", a.called(d.Header))
		}
	}
	if err != nil {
		return err
	}
	fmt.Fprintln(out)
	if r.All {
		printSame(a, d)
		printNotCompared(a, d)
	}
	tally, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	what := Count(shown, "finding")
	if len(groups) < shown {
		what += " in " + Count(len(groups), "group")
	}
	fmt.Fprintln(out, a.Wrap(fmt.Sprintf("%s. Decisions: %s.", what, TallyText(tally.Tally)), ""))
	Printf(out, "Digest %s\n", digest[:16])
	NextStep(ctx, a, s, tally)
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

// Blocked says what a match found that stops the whole docket.
func Blocked(ctx context.Context, a *Page, d *docket.Docket) error {
	checks, err := d.Found.Checks(ctx)
	if err != nil {
		return err
	}
	said := false
	for _, c := range checks[0] {
		if c.Level == check.Blocker {
			fmt.Fprintln(a.Coloured(), a.Wrap(fmt.Sprintf("%s %s: %s %s", Tone(string(c.Level)), c.Code, c.Message, c.Mend), "  "))
			said = true
		}
	}
	if said {
		fmt.Fprintln(a.Coloured())
	}
	return nil
}

// printSame lists the types without differences.
func printSame(a *Page, d *docket.Docket) {
	var rest []string
	for _, t := range d.Types {
		if !wire.CountsOf(t).Differs() {
			rest = append(rest, fmt.Sprintf("%s (%d)", t.Name, t.Counts[match.Same]))
		}
	}
	if len(rest) > 0 {
		fmt.Fprintln(a.Coloured(), a.Wrap("Without differences: "+strings.Join(rest, ", "), "  "))
	}
}

// printNotCompared lists what a match did not look at, so that it is not taken for the same.
func printNotCompared(a *Page, d *docket.Docket) {
	out := a.Coloured()
	list := func(what string, names []string) {
		if len(names) > 0 {
			fmt.Fprintln(out, a.Wrap(what+": "+strings.Join(names, ", "), "  "))
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

// TallyText says how the findings of a docket stand.
func TallyText(t decision.Tally) string {
	text := fmt.Sprintf("%d open, %d approved, %d declined, %d held", t.Open, t.Approved, t.Declined, t.Held)
	if t.Kept > 0 {
		text += fmt.Sprintf(", %d kept", t.Kept)
	}
	return text
}
