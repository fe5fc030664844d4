package report

import (
	"bufio"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"sync"

	"anagram/internal/core/decision"
	"anagram/internal/core/show"
	"anagram/internal/flow/audit"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/text"
)

// The history of a docket is one page for somebody who has only that: an auditor. Nothing in
// it runs, and nothing can be answered.

//go:embed history.html
var historyText string

var historyTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("history").Parse(historyText)) })

// History is what is told of a docket.
type History struct {
	Docket   *docket.Docket
	Digest   string
	Head     string // of its log, with the number of its links
	Links    int
	Tally    decision.Tally
	Runs     []run.Run
	Events   []audit.Event
	People   []docket.Acted
	Made, By string
	Each     func(ctx context.Context, give func(decide.Reviewed) error) error
}

// Write writes the page.
func (h History) Write(ctx context.Context, out io.Writer) error {
	w := bufio.NewWriterSize(out, 1<<16)
	if err := historyTemplate().ExecuteTemplate(w, "historytop", h.top()); err != nil {
		return err
	}
	outcomes, err := h.outcomes(ctx)
	if err != nil {
		return err
	}
	err = h.Each(ctx, func(f decide.Reviewed) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return historyTemplate().ExecuteTemplate(w, "historyfinding", h.finding(f, outcomes[f.ID]))
	})
	if err != nil {
		return err
	}
	if err := historyTemplate().ExecuteTemplate(w, "historybottom", nil); err != nil {
		return err
	}
	return w.Flush()
}

func (h History) top() map[string]any {
	d := h.Docket.Header
	from := fmt.Sprintf("%s, parcel %s, exported %s by %s", d.Source, d.Parcel, text.When(d.ExportedAt), d.ExportedBy)
	if d.Restores != 0 {
		from = fmt.Sprintf("%s as it was before the import of docket %d, %s", d.Target, d.Restores, text.When(d.ExportedAt))
	}
	type row struct{ When, Who, What, Records string }
	var events []row
	for _, e := range h.Events {
		events = append(events, row{text.When(e.At), show.Harmless(e.Who), show.Harmless(eventWords(e)),
			show.Harmless(text.Some(e.Addresses, 20))})
	}
	var people []string
	for _, one := range h.People {
		named := ""
		if one.Named {
			named = ", under a name that was given"
		}
		people = append(people, show.Harmless(fmt.Sprintf("%s, at work as account %s on %s%s", one.Who, one.Account, one.Host, named)))
	}
	t := h.Tally
	return map[string]any{
		"Policy": "default-src 'none'; base-uri 'none'; form-action 'none'; style-src " + policySum(pageStyle),
		"Style":  template.CSS(pageStyle), // #nosec G203 -- the program's own
		"Number": d.Number, "Source": show.Harmless(d.Source), "Target": show.Harmless(d.Target), "From": show.Harmless(from),
		"To": show.Harmless(fmt.Sprintf("%s (%s), matched %s by %s with %s", d.Target, d.TargetAddress, text.When(d.MatchedAt),
			d.MatchedBy, d.Program)),
		"Made": text.When(h.Made), "By": show.Harmless(h.By), "Digest": h.Digest, "Links": text.Count(h.Links, "link"), "Head": h.Head,
		"Decisions": fmt.Sprintf("%d open, %d approved, %d declined, %d held, %d kept", t.Open, t.Approved, t.Declined, t.Held, t.Kept),
		"Events":    events, "People": people, "Around": shown.AroundTexts(d),
	}
}

func eventWords(e audit.Event) string {
	switch e.What {
	case "matched":
		return "matched, " + text.Count(e.Records, "finding")
	case "decided":
		words := e.Decision + ", " + text.Count(e.Records, "finding")
		if e.Rule {
			words += ", by a standing rule"
		}
		if e.Carried != 0 {
			words += fmt.Sprintf(", carried over from docket %d", e.Carried)
		}
		if e.Note != "" {
			words += ": " + e.Note
		}
		return words
	case "commented":
		return "commented: " + e.Note
	case "signed":
		return "signed"
	default:
		words := fmt.Sprintf("%s: %s, %d new, %d changed, %d removed, %d left out", e.What, e.Outcome, e.New, e.Changed, e.Removed,
			e.LeftOut)
		if e.EndedAt != "" {
			words += ", ended " + text.When(e.EndedAt)
		}
		if e.Note != "" {
			words += ": " + e.Note
		}
		return words
	}
}

// outcomes tells what became of each finding in each run, in words.
func (h History) outcomes(ctx context.Context) (map[int64][]string, error) {
	out := map[int64][]string{}
	for _, one := range h.Runs {
		for _, of := range []struct{ outcome, words string }{{run.WasWritten, "written"}, {run.WasAlready, "as approved already"},
			{run.WasLeftOut, "left out"}} {
			list, err := run.Outcomes(ctx, h.Docket, one.Seq, of.outcome)
			if err != nil {
				return nil, err
			}
			for _, o := range list {
				words := fmt.Sprintf("%s of %s: %s", one.Kind, text.When(one.StartedAt), of.words)
				if o.Why != "" {
					words += ", " + o.Why + ": " + show.Harmless(o.Message)
				}
				out[o.Finding] = append(out[o.Finding], words)
			}
		}
	}
	return out, nil
}

func (h History) finding(r decide.Reviewed, outcomes []string) map[string]any {
	type row struct{ Name, Source, Target, Decision string }
	f := shown.Of(h.Docket, r)
	var fields []row
	for _, of := range f.Fields {
		fields = append(fields, row{of.Name, show.Readable(of.Source), show.Readable(of.Target), of.Decision})
	}
	var said []string
	for _, c := range f.Said {
		said = append(said, fmt.Sprintf("%s, %s: %s", c.Who, text.When(c.At), c.Text))
	}
	d := h.Docket.Header
	return map[string]any{"Address": f.Address, "Title": f.Title, "Word": f.Status, "Status": f.StatusText, "Stands": f.StandsText,
		"Outcomes": outcomes, "Fields": fields, "HasSource": f.InSource, "HasTarget": f.InTarget,
		"Source": show.Harmless(d.Source), "Target": show.Harmless(d.Target), "Checks": f.Checks, "Said": said}
}
