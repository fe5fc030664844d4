package audit

import (
	"context"

	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Event is one thing that happened to a docket.
type Event struct {
	At        string
	Who       string
	What      string // matched, decided, commented, signed, or the kind of a run
	Decision  string
	Note      string
	Records   int      // that it is about
	Addresses []string // of them
	Rule      bool     // by a standing rule
	Carried   int      // the docket in which it was decided first
	Outcome   string   // of a run
	EndedAt   string
	New       int
	Changed   int
	Removed   int
	LeftOut   int
	done      bool // nothing more is added to it
}

// Events gives all that happened to a docket, oldest first. Decisions that were said in one go
// are one event.
func Events(ctx context.Context, d *docket.Docket) ([]Event, error) {
	names := map[int64]string{}
	lines, err := d.Found.Lines(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		names[l.ID] = l.Address
	}
	h := d.Header
	out := []Event{{At: h.MatchedAt, Who: h.MatchedBy, What: "matched", Records: len(lines)}}
	t, err := readTold(ctx, d, names)
	if err != nil {
		return nil, err
	}
	order, err := d.Order(ctx)
	if err != nil {
		return nil, err
	}
	for _, link := range order {
		for range link.Count {
			if e, more := t.next(link.Kind); more {
				out = joined(out, e)
			}
		}
		// What was said in another go is another event.
		if n := len(out); n > 0 {
			out[n-1].done = true
		}
	}
	return out, nil
}

// told is what a docket has of each kind, to be taken in order.
type told map[string][]Event

func readTold(ctx context.Context, d *docket.Docket, names map[int64]string) (told, error) {
	out := told{}
	log, err := d.Log(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range log {
		name := names[v.Finding]
		if v.Field != "" {
			name += ", field " + v.Field
		}
		out["decided"] = append(out["decided"], Event{At: v.At, Who: v.Who, What: "decided", Decision: string(v.Decision),
			Note: v.Note, Rule: v.Rule, Carried: v.Carried, Records: 1, Addresses: []string{name}})
	}
	comments, err := d.Comments(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range comments {
		out["commented"] = append(out["commented"], Event{At: c.At, Who: c.Who, What: "commented", Note: c.Text, Records: 1,
			Addresses: []string{names[c.Finding]}})
	}
	signatures, err := d.Signatures(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range signatures {
		out["signed"] = append(out["signed"], Event{At: s.At, Who: s.Who, What: "signed"})
	}
	runs, err := run.List(ctx, d)
	if err != nil {
		return nil, err
	}
	for _, one := range runs {
		e := Event{At: one.StartedAt, Who: one.Who, What: one.Kind, Outcome: one.Outcome, EndedAt: one.EndedAt, New: one.New,
			Changed: one.Changed, Removed: one.Removed, LeftOut: one.LeftOut, Note: one.Message}
		if one.EndedAt == "" && !one.Unsettled() {
			e.Outcome = run.Interrupted
		}
		out["run"] = append(out["run"], e)
	}
	return out, nil
}

// next takes the next event of a kind.
func (t told) next(kind string) (Event, bool) {
	if len(t[kind]) == 0 {
		return Event{}, false
	}
	e := t[kind][0]
	t[kind] = t[kind][1:]
	return e, true
}

// joined adds an event; decisions that were said in one go are one.
func joined(out []Event, e Event) []Event {
	if n := len(out); n > 0 && e.What == "decided" {
		last := &out[n-1]
		if !last.done && last.What == e.What && last.At == e.At && last.Who == e.Who && last.Decision == e.Decision &&
			last.Note == e.Note && last.Rule == e.Rule && last.Carried == e.Carried {
			last.Records++
			last.Addresses = append(last.Addresses, e.Addresses...)
			return out
		}
	}
	return append(out, e)
}
