package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/files/safe"
	"anagram/internal/flow/audit"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/present"
	"anagram/internal/ui/report"
	"anagram/internal/ui/wire"
)

func historyCommand(a *app) *cobra.Command {
	var out, since, until string
	cmd := &cobra.Command{
		Use:   "history [DOCKET | ADDRESS]",
		Short: "Show what was brought where, when, by whom, with what outcome",
		Long: `Lists the dockets of the workspace and what became of them. Of a docket it tells all
that happened to it; --out FILE.html writes that, with every finding, as one page for
somebody who has only that. Of a record's address it tells its life over all dockets:
when it came, what changed, who approved it, where it stands. --since tells everything that
reached an environment from then on, record by record and field by field, and what matches
saw changed there by others; --out FILE.xlsx, .html or .csv writes it.`,
		Example: "  anagram history\n  anagram history 7 --out docket-7.html\n  anagram history assay/GLU\n  anagram history --since 2026-11-01 --until 2026-11-30 --out november.xlsx",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			switch {
			case since != "" || until != "":
				if len(given) > 0 {
					return session.Usage("--since tells of all dockets; leave %q out", given[0])
				}
				return historySince(cmd.Context(), a, since, until, out)
			case len(given) == 1 && isAddress(a, given[0]):
				if out != "" {
					return &session.UsageError{Message: "--out writes the history of a docket; of a record it is printed"}
				}
				s, err := a.session()
				if err != nil {
					return err
				}
				return present.Life(cmd.Context(), a.Page, s, given[0])
			case len(given) == 1:
				s, d, err := a.openDocket(cmd.Context(), given)
				if err != nil {
					return err
				}
				defer d.Close()
				if out != "" {
					return writeHistory(cmd.Context(), a, s, d, out)
				}
				return present.DocketHistory(cmd.Context(), a.Page, d)
			case out != "":
				return &session.UsageError{Message: "--out writes the history of one docket; name it, such as: anagram history 7 --out docket-7.html"}
			}
			s, err := a.session()
			if err != nil {
				return err
			}
			summaries, err := s.Summaries(cmd.Context())
			if err != nil {
				return err
			}
			return present.History(a.Page, summaries)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&out, "out", "", "write a docket's history into a new page, FILE.html; with --since also .xlsx and .csv")
	flags.StringVar(&since, "since", "", "what reached an environment since this date or time")
	flags.StringVar(&until, "until", "", "with --since: until the end of this date, or this time")
	return cmd
}

// isAddress reports whether a word names a record, not a docket.
func isAddress(a *app, word string) bool {
	if !strings.Contains(word, "/") || strings.HasSuffix(word, ".docket") {
		return false
	}
	_, err := os.Stat(a.path(word))
	return err != nil
}

// writeHistory writes all of a docket into one page.
func writeHistory(ctx context.Context, a *app, s *session.Session, d *docket.Docket, name string) error {
	if !strings.EqualFold(filepath.Ext(name), ".html") {
		return &session.UsageError{Message: "--out writes a page; let its name end in .html"}
	}
	events, err := audit.Events(ctx, d)
	if err != nil {
		return err
	}
	summary, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	people, err := d.People(ctx)
	if err != nil {
		return err
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return err
	}
	head, err := d.Head(ctx)
	if err != nil {
		return err
	}
	r := report.History{Docket: d, Digest: digest, Head: head.Head, Links: head.Links, Tally: summary.Tally, Runs: summary.Runs,
		Events: events, People: people, Made: run.Stamp(a.Now()), By: a.who()}
	r.Each = func(ctx context.Context, give func(decide.Reviewed) error) error {
		return decide.Review(ctx, s, d, decide.Which{}, give)
	}
	if err := newFile(a, name, func(out io.Writer) error { return r.Write(ctx, out) }); err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.HistoryFile{Docket: d.Header.Number, File: a.path(name)})
	}
	fmt.Fprintln(a.Out,
		a.Wrap(fmt.Sprintf("The history of docket %d was written into %s. It can be read by whoever has only that file.",
			d.Header.Number, name), ""))
	return nil
}

// newFile fills a file that is not there yet.
func newFile(a *app, name string, fill func(io.Writer) error) error {
	err := safe.WriteNew(a.path(name), fill)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &session.UsageError{Message: "the folder of " + name + " is not there; nothing was written"}
	case errors.Is(err, fs.ErrExist):
		return &session.UsageError{Message: name + " is there already; name a new file"}
	}
	return err
}
