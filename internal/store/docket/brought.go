package docket

import (
	"context"

	"anagram/internal/store/docket/run"
)

// Brought gives the findings that the imports of a docket wrote, or found as approved; those that
// were approved where somebody loaded its load files.
func Brought(ctx context.Context, d *Docket) (map[int64]bool, error) {
	runs, err := run.List(ctx, d)
	if err != nil {
		return nil, err
	}
	out := map[int64]bool{}
	for _, one := range runs {
		if one.Kind == run.ConfirmRun && one.Done() {
			for f, err := range d.Found.Findings(ctx, Filter{}) {
				if err != nil {
					return nil, err
				}
				if f.IsApproved() {
					out[f.ID] = true
				}
			}
			continue
		}
		if one.Kind != run.ImportRun {
			continue
		}
		for _, outcome := range []string{run.WasWritten, run.WasAlready} {
			list, err := run.Outcomes(ctx, d, one.Seq, outcome)
			if err != nil {
				return nil, err
			}
			for _, o := range list {
				out[o.Finding] = true
			}
		}
	}
	return out, nil
}
