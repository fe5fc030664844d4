package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/files/safe"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/extract"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/ui/present"
	"anagram/internal/ui/report"
	"anagram/internal/ui/wire"
)

// writeReport writes the findings that are meant into a new file, in the form of its name.
func writeReport(ctx context.Context, a *app, s *session.Session, d *docket.Docket, which decide.Which, removals bool, name string) error {
	if removals {
		which.Statuses = []match.Status{match.TargetOnly}
	}
	r := report.Review{Docket: d, Made: run.Stamp(s.Now()), By: s.Who}
	var err error
	if r.Digest, err = d.Digest(ctx); err != nil {
		return err
	}
	if r.Groups, err = d.Found.Groups(ctx); err != nil {
		return err
	}
	summary, err := docket.Summarize(ctx, d)
	if err != nil {
		return err
	}
	r.Tally = summary.Tally
	n := 0
	r.Each = func(ctx context.Context, give func(decide.Reviewed) error) error {
		return decide.Review(ctx, s, d, which, func(f decide.Reviewed) error {
			n++
			return give(f)
		})
	}
	r.ByGroup = func(ctx context.Context, give func(decide.Reviewed) error) error {
		return decide.ReviewGroups(ctx, s, d, which, func(f decide.Reviewed) error {
			n++
			return give(f)
		})
	}
	var fill func(io.Writer) error
	switch strings.ToLower(filepath.Ext(name)) {
	case ".xlsx":
		scratch, err := a.scratch(s)
		if err != nil {
			return err
		}
		fill = func(out io.Writer) error { return report.XLSX(ctx, out, r, scratch) }
	case ".html":
		if r.Grouped, err = decide.Groups(ctx, s, d, which, "type"); err != nil {
			return err
		}
		if r.Removals, err = decide.Removals(ctx, s, d, which); err != nil {
			return err
		}
		fill = func(out io.Writer) error { return report.HTML(ctx, out, r) }
	case ".csv":
		fill = func(out io.Writer) error { return report.CSV(ctx, out, r) }
	case ".jsonl":
		fill = func(out io.Writer) error {
			encoder := json.NewEncoder(out)
			encoder.SetEscapeHTML(false)
			return r.Each(ctx, func(f decide.Reviewed) error {
				return encoder.Encode(wire.FindingOf(d.Header, r.Groups[f.Group-1], f))
			})
		}
	default:
		return &session.UsageError{Message: "--out writes .xlsx, .csv, .html or .jsonl, by the end of the file's name"}
	}
	path := a.path(name)
	if err := safe.WriteNew(path, fill); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return &session.UsageError{Message: "the folder of " + name + " is not there; nothing was written"}
		}
		if errors.Is(err, fs.ErrExist) {
			return &session.UsageError{Message: name + " is there already; name a new file"}
		}
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.Reviewed{Docket: d.Header.Number, File: path, Findings: n})
	}
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s of docket %d written into %s.", present.Count(n, "finding"), d.Header.Number, name), ""))
	if ext := strings.ToLower(filepath.Ext(name)); ext != ".jsonl" && !removals {
		back := name
		if ext == ".html" {
			back = "ANSWERS.json"
		}
		a.Next(fmt.Sprintf("anagram decide %d --from", d.Header.Number), present.Arg(back))
	}
	return nil
}

// writeFiles writes what is long, or an attachment, into files.
func writeFiles(ctx context.Context, a *app, s *session.Session, d *docket.Docket, which decide.Which, name string) error {
	n, dir := 0, a.path(name)
	done, err := extract.Into(ctx, d, dir, func(ctx context.Context, give func(decide.Reviewed) error) error {
		return decide.Review(ctx, s, d, which, func(f decide.Reviewed) error {
			n++
			return give(f)
		})
	})
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.FilesWritten{Docket: d.Header.Number, Findings: n, Files: done.Files, Folder: dir,
			NotHeld: append([]string{}, done.TooLong...)})
	}
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s of %s of docket %d written into %s: below TYPE/KEY, one for each field and side.", present.Count(done.Files, "file"),
		present.Count(n, "finding"), d.Header.Number, name), ""))
	for _, what := range done.TooLong {
		fmt.Fprintln(a.Out, a.Wrap("  not held by the docket: "+show.Harmless(what), "    "))
	}
	return nil
}

// scratch gives a folder for what does not fit in memory.
func (a *app) scratch(s *session.Session) (string, error) {
	if len(s.Workspace.Environments) == 0 { // a docket alone
		return os.TempDir(), nil
	}
	return s.Workspace.Scratch()
}
