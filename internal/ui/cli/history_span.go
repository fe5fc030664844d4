package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"anagram/internal/flow/audit"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/present"
	"anagram/internal/ui/report"
)

// historySince tells, or writes, what reached the environments in a span of time.
func historySince(ctx context.Context, a *app, since, until, out string) error {
	span, err := spanOf(since, until)
	if err != nil {
		return err
	}
	s, err := a.session()
	if err != nil {
		return err
	}
	n := 0
	each := func(give func(audit.Reached) error) error {
		return audit.Span(ctx, s, span, func(r audit.Reached) error {
			n++
			return give(r)
		})
	}
	if out == "" {
		return a.Paged(ctx, func() error { return present.Span(a.Page, each) })
	}
	var fill func(io.Writer) error
	switch strings.ToLower(filepath.Ext(out)) {
	case ".csv":
		fill = func(w io.Writer) error { return report.SpanCSV(w, each) }
	case ".xlsx":
		scratch, err := a.scratch(s)
		if err != nil {
			return err
		}
		fill = func(w io.Writer) error { return report.SpanXLSX(w, scratch, each) }
	case ".html":
		title := "What reached the environments since " + since
		if until != "" {
			title += ", until " + until
		}
		fill = func(w io.Writer) error { return report.SpanHTML(w, title, run.Stamp(a.Now()), a.who(), each) }
	default:
		return session.Usage("--out writes a table or a page; let its name end in .xlsx, .html or .csv")
	}
	if err := newFile(a, out, fill); err != nil {
		return err
	}
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s written into %s.", present.Count(n, "field"), out), ""))
	return nil
}

// spanOf reads a span of time. A date begins with its day in UTC; as an end it is that of its day.
func spanOf(since, until string) (audit.Between, error) {
	var out audit.Between
	read := func(option, text string, end bool) (time.Time, error) {
		if t, err := time.Parse(time.DateOnly, text); err == nil {
			if end {
				t = t.AddDate(0, 0, 1)
			}
			return t, nil
		}
		t, ok := session.Moment(text)
		if !ok {
			return t, session.Usage("%s %q is neither a date such as 2026-11-23 nor a time such as 2026-11-23T08:00:00Z", option, text)
		}
		return t, nil
	}
	var err error
	if since == "" {
		return out, session.Usage("--until needs --since: say from when")
	}
	if out.Since, err = read("--since", since, false); err != nil || until == "" {
		return out, err
	}
	out.Until, err = read("--until", until, true)
	if err == nil && !out.Until.After(out.Since) {
		err = session.Usage("--until %s is not after --since %s", until, since)
	}
	return out, err
}
