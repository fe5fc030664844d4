package matching

import (
	"context"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// checkTimes adds what time has to say about the whole docket.
func checkTimes(ctx context.Context, c compared, fresh bool, out *sink) error {
	p := c.parcel.Manifest
	name := library.NameOf(c.parcel)
	if exported, err := time.Parse(time.RFC3339, p.ExportedAt); err == nil {
		if found, old := check.Age(name, exported, c.session.Now()); old {
			out.onDocket(found)
		}
	}
	if !fresh && !c.then {
		moved, reached := library.SourceMoved(ctx, c.session, c.parcel)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if found, ok := check.Source(name, p.Source, moved); reached && ok {
			out.onDocket(found)
		}
	}
	if c.against != nil {
		return out.err
	}
	return checkDockets(ctx, c, out)
}

// checkDockets tells of other dockets for the same target that are under way.
func checkDockets(ctx context.Context, c compared, out *sink) error {
	summaries, err := c.session.Summaries(ctx)
	if err != nil {
		return err
	}
	back := session.TakenBack(register.PastsOf(summaries))
	for _, d := range summaries {
		if d.Err != nil || d.Header.Target != c.target {
			continue
		}
		imports, open, half := 0, false, false
		for _, r := range d.Runs {
			if r.Kind == run.ImportRun || r.Kind == run.ConfirmRun {
				imports++
				half = r.Unfinished()
				open = r.EndedAt == "" || r.Unsettled()
			}
		}
		switch {
		case half && (c.back != nil || back[d.Header.Number]):
		case half:
			out.onDocket(check.HalfWay(d.Header.Number, c.target))
		case open && c.back == nil:
			out.onDocket(check.Unfinished(d.Header.Number, c.target))
		case imports == 0 && d.Tally.Approved > 0 && !run.LoadsWait(d.Runs):
			out.onDocket(check.Open(d.Header.Number, c.target, d.Tally.Approved))
		}
	}
	return out.err
}
