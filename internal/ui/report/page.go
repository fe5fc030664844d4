package report

import (
	"bufio"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/shown"
	"anagram/internal/ui/text"
)

// The page is one file that needs nothing else: it opens from a mail, prints, and takes
// answers. Nothing in it runs but the script that the program brings; the browser is told so
// by the digests in its security policy, whatever a value holds.

var (
	//go:embed page.css
	pageStyle string
	//go:embed page.js
	pageScript string
	//go:embed page.html
	pageText string

	pageTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })
)

func policySum(content string) string {
	sum := sha256.Sum256([]byte(content))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// HTML writes a review as a page. Groups are those that have a finding that is meant, in the
// order of the docket.
func HTML(ctx context.Context, out io.Writer, r Review) error {
	w := bufio.NewWriterSize(out, 1<<16)
	run := func(name string, data any) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return pageTemplate().ExecuteTemplate(w, name, data)
	}
	checks, err := r.Docket.Found.Checks(ctx)
	if err != nil {
		return err
	}
	if err := run("top", topOf(r, checks[0])); err != nil {
		return err
	}
	byNumber := make(map[int]*decide.Grouped, len(r.Grouped)) // there can be very many
	for i := range r.Grouped {
		byNumber[r.Grouped[i].Number] = &r.Grouped[i]
	}
	last := 0
	err = r.ByGroup(ctx, func(f decide.Reviewed) error {
		if f.Group != last {
			if last != 0 {
				if err := run("groupend", nil); err != nil {
					return err
				}
			}
			last = f.Group
			if err := run("group", groupOf(byNumber[f.Group])); err != nil {
				return err
			}
		}
		return run("finding", findingOf(r, f))
	})
	if err != nil {
		return err
	}
	if last != 0 {
		if err := run("groupend", nil); err != nil {
			return err
		}
	}
	var removals []removal
	for _, f := range r.Removals {
		removals = append(removals, removal{show.Harmless(f.Address), show.Harmless(f.Title), show.Harmless(text.Some(f.By, 5)),
			shown.Of(r.Docket, f.Reviewed).StandsText})
	}
	if err := run("removals", removals); err != nil {
		return err
	}
	err = run("bottom", map[string]any{
		"Script": template.JS(pageScript), // #nosec G203 -- the program's own
		"Number": r.Docket.Header.Number, "About": map[string]any{"docket": r.Docket.Header.Number, "digest": r.Digest},
	})
	if err != nil {
		return err
	}
	return w.Flush()
}

type removal struct{ Address, Title, After, Stands string }

type bar struct {
	Status  match.Status
	From, N int
}

type typeCounts struct {
	Name   string
	Most   int
	Bars   []bar
	Counts []bar
	Same   int
}

func topOf(r Review, checks []check.On) map[string]any {
	h := r.Docket.Header
	legend := slices.DeleteFunc(slices.Clone(match.Statuses()), func(s match.Status) bool { return s == match.Same })
	most := 1
	for _, t := range r.Docket.Types {
		n := 0
		for _, s := range legend {
			n += t.Counts[s]
		}
		most = max(most, n)
	}
	var types []typeCounts
	var names []string
	for _, t := range r.Docket.Types {
		c := typeCounts{Name: show.Harmless(t.Name), Most: most, Same: t.Counts[match.Same]}
		at := 0
		for _, s := range legend {
			n := t.Counts[s]
			c.Counts = append(c.Counts, bar{s, at, n})
			if n > 0 {
				c.Bars = append(c.Bars, bar{s, at, n})
			}
			at += n
		}
		types, names = append(types, c), append(names, t.Name)
	}
	var whole []check.Check
	for _, c := range checks {
		whole = append(whole, c.Check)
	}
	findings := 0
	for _, g := range r.Grouped {
		findings += g.Shown
	}
	t := r.Tally
	return map[string]any{
		"Policy": "default-src 'none'; base-uri 'none'; form-action 'none'; style-src " + policySum(pageStyle) + "; script-src " +
			policySum(pageScript),
		"Style": template.CSS(pageStyle), "Header": h, // #nosec G203 -- the program's own
		"Source": show.Harmless(h.Source), "Target": show.Harmless(h.Target), "Parcel": show.Harmless(h.Parcel),
		"Exported": text.When(h.ExportedAt), "ExportedBy": show.Harmless(h.ExportedBy),
		"Matched": text.When(h.MatchedAt), "MatchedBy": show.Harmless(h.MatchedBy), "Made": text.When(r.Made),
		"By": show.Harmless(r.By), "Digest": r.Digest,
		"Shown":     fmt.Sprintf("it shows %s in %s", text.Count(findings, "finding"), text.Count(len(r.Grouped), "group")),
		"Decisions": fmt.Sprintf("%d open, %d approved, %d declined, %d held, %d kept", t.Open, t.Approved, t.Declined, t.Held, t.Kept),
		"Legend":    legend, "Types": types, "TypeNames": names, "Checks": shown.Harmless(whole), "Around": shown.AroundTexts(h),
	}
}

func groupOf(g *decide.Grouped) map[string]any {
	parts := make([]string, len(g.Counts))
	for i, k := range g.Counts {
		parts[i] = fmt.Sprintf("%d %s %s", k.N, k.Type, k.Status)
	}
	holds := strings.Join(parts, ", ")
	switch g.Cause {
	case "missing":
		holds += "; all wait for it, and it is nowhere"
	case "owner":
		holds += "; parts of it"
	}
	return map[string]any{"Number": g.Number, "Address": show.Harmless(g.Address), "Title": show.Harmless(g.Title), "Holds": holds,
		"Several": g.Shown > 1}
}

// value is a value with the part in which it differs apart.
type value struct {
	Null                   bool
	Before, Differs, After string
}

type pageField struct {
	Key, Name              string
	Source, Target, Agreed value
	Moved                  string
}

type choice struct{ Value, Words string }

func findingOf(r Review, of decide.Reviewed) map[string]any {
	h, f := r.Docket.Header, shown.Of(r.Docket, of)
	var fields []pageField
	for _, field := range f.Fields {
		one := pageField{Key: field.Key, Name: field.Name, Moved: field.Moved}
		if !f.InSource || !f.InTarget {
			one.Source, one.Target = plainValue(field.Source), plainValue(field.Target)
		} else {
			from, to := show.Common([]*string{field.Source, field.Target})
			one.Source, one.Target = valueOf(field.Source, from, to), valueOf(field.Target, from, to)
		}
		one.Agreed = plainValue(field.Agreed)
		if !field.Known {
			one.Agreed = value{Before: "not known"}
		}
		fields = append(fields, one)
	}
	source, target := show.Harmless(h.Source), show.Harmless(h.Target)
	choices, alone := choicesOf(of, source, target)
	type words struct{ Who, When, Text string }
	var said []words
	for _, c := range f.Said {
		said = append(said, words{c.Who, text.When(c.At), c.Text})
	}
	return map[string]any{"ID": f.ID, "Address": f.Key, "ShownAddress": f.Address, "Was": f.Was, "Title": f.Title, "Type": f.Type,
		"Status": f.Status, "Reasons": f.Reasons, "Stands": f.Stands, "StandsText": f.StandsText, "Fields": fields,
		"HasSource": f.InSource, "HasTarget": f.InTarget, "Known": f.Known, "Source": source, "Target": target, "Checks": f.Checks,
		"Choices": choices, "FieldChoices": alone, "Filled": f.Filled, "Changed": f.ChangedText(), "Removal": f.Removal,
		"Said": said, "Words": f.Words,
		"Asks": f.Asks, "Spoke": strings.Join(f.Spoke, "\n")}
}

// choicesOf gives what can be answered on a finding, and on one of several fields of it.
func choicesOf(f decide.Reviewed, source, target string) (record, field []choice) {
	safe := []choice{{"decline", "decline"}, {"hold", "hold"}}
	switch {
	case f.Removes():
		return slices.Concat([]choice{{"approve source", "remove it"}, {"approve target", "keep it"}}, safe), nil
	case f.Status == match.TargetOnly || f.Hopeless():
		return safe, nil
	case f.Status == match.TargetEdit || f.Status == match.Conflict:
		take := []choice{{"approve source", "take " + source}, {"approve target", "keep " + target}}
		record = slices.Concat(take, safe)
		field = record
	default:
		record = append([]choice{{"approve", "approve"}}, safe...)
		field = record
	}
	if len(f.Fields) < 2 {
		field = nil
	}
	return record, field
}

func plainValue(text *string) value {
	if text == nil {
		return value{Null: true}
	}
	return value{Before: show.Readable(text)}
}

// valueOf takes a text apart at what is the same at its beginning and its end.
func valueOf(text *string, from, to int) value {
	if text == nil {
		return value{Null: true}
	}
	runes := []rune(*text)
	if from == 0 && to == 0 {
		return plainValue(text)
	}
	return value{Before: show.Harmless(string(runes[:from])), Differs: show.Harmless(string(runes[from : len(runes)-to])),
		After: show.Harmless(string(runes[len(runes)-to:]))}
}
