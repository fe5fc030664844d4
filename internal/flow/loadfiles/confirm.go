package loadfiles

import (
	"context"

	"anagram/internal/core/match"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/verify"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// Confirmation says whether the load files of a docket were loaded.
type Confirmation struct {
	Docket  int
	Records int
	Missing int // that are not in the target as approved
}

// Confirm looks whether the load files of earlier dockets were loaded into a target that
// was just matched, and records it where all of them were.
func Confirm(ctx context.Context, s *session.Session, target string) ([]Confirmation, error) {
	summaries, err := s.Pasts(ctx)
	if err != nil {
		return nil, err
	}
	var out []Confirmation
	var env environment.Environment
	for _, summary := range summaries {
		if summary.Err != nil || summary.Header.Target != target || summary.Header.TargetParcel != "" || !run.LoadsWait(summary.Runs) {
			continue
		}
		if env == nil {
			if env, err = s.Open(ctx, target, true); err != nil {
				return nil, err
			}
			defer env.Close()
		}
		c, err := confirm(ctx, s, env, summary.Header.Number)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func confirm(ctx context.Context, s *session.Session, env environment.Environment, number int) (Confirmation, error) {
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return Confirmation{}, err
	}
	defer d.Close()
	out := Confirmation{Docket: d.Header.Number}
	demand, err := standing.Demanded(s, d)
	if err != nil {
		return out, err
	}
	r, rest, err := prepare.Read(ctx, d, demand)
	if err != nil {
		return out, err
	}
	one := run.Run{Outcome: run.Imported}
	err = verify.EachNow(ctx, r, sides.Renamed(env, r.Names), rest, func(a *standing.Approval, asApproved bool) {
		out.Records++
		switch {
		case !asApproved:
			out.Missing++
		case a.Removes:
			one.Removed++
		case a.Status == match.New:
			one.New++
		default:
			one.Changed++
		}
	})
	if err != nil || out.Missing > 0 || out.Records == 0 {
		return out, err
	}
	if one.Seq, err = run.Start(ctx, d, run.ConfirmRun, s.Who, s.Now()); err != nil {
		return out, err
	}
	return out, run.End(ctx, d, one, s.Now(), nil)
}
