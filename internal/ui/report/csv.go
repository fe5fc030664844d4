package report

import (
	"context"
	"io"

	"anagram/internal/files/sheet"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/shown"
)

// CSV writes the table of a review.
func CSV(ctx context.Context, out io.Writer, r Review) error {
	w := sheet.NewCSV(out)
	t := shown.TableOf(r.Docket.Header, r.Digest, r.Made)
	if err := w.Row(t.Header()); err != nil {
		return err
	}
	err := r.Each(ctx, func(f decide.Reviewed) error {
		for _, row := range t.Rows(shown.Of(r.Docket, f)) {
			if err := w.Row(row); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return w.Close()
}
