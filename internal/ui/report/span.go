package report

import (
	"bufio"
	"errors"
	"fmt"
	"html/template"
	"io"
	"strconv"
	"strings"
	"sync"

	"github.com/xuri/excelize/v2"

	"anagram/internal/core/show"
	"anagram/internal/files/sheet"
	"anagram/internal/flow/audit"
	"anagram/internal/ui/text"
)

// What reached the environments in a span of time, as a table: nothing of it comes back.

// spanHeader names the columns.
func spanHeader() []string {
	return []string{"when", "environment", "record", "field", "before", "after", "what", "docket", "approved by", "by",
		"taken back by docket"}
}

// spanWord says what became of a record.
func spanWord(r audit.Reached) string {
	switch {
	case r.What != audit.ByOthers:
		return r.What
	case r.Field == "":
		return "removed there by others"
	default:
		return "changed there by others"
	}
}

// spanRow gives the cells of one field.
func spanRow(r audit.Reached) []string {
	back := ""
	if r.TakenBack != 0 {
		back = strconv.Itoa(r.TakenBack)
	}
	value := func(v *string) string {
		if v == nil && (r.What == audit.Came || r.Field == "") {
			return ""
		}
		return show.Readable(v)
	}
	return []string{text.When(r.At), show.Harmless(r.Environment), show.Harmless(r.Address), show.Harmless(r.Field),
		value(r.Old), value(r.New),
		spanWord(r), strconv.Itoa(r.Docket), show.Harmless(strings.Join(r.Approved, ", ")), show.Harmless(r.By), back}
}

// spanEach gives what is told, one after the other.
type spanEach func(func(audit.Reached) error) error

// SpanCSV writes it as CSV.
func SpanCSV(out io.Writer, each spanEach) error {
	w := sheet.NewCSV(out)
	if err := w.Row(spanHeader()); err != nil {
		return err
	}
	err := each(func(r audit.Reached) error {
		row := spanRow(r)
		for i := range row {
			row[i] = sheet.Shown(row[i])
		}
		return w.Row(row)
	})
	return errors.Join(err, w.Close())
}

// mostOfSheet is how many rows a sheet takes.
const mostOfSheet = 1_000_000

// SpanXLSX writes it as a workbook, with a further sheet where one is full.
func SpanXLSX(out io.Writer, scratch string, each spanEach) (err error) {
	file := excelize.NewFile(excelize.Options{TmpDir: scratch})
	defer func() { err = errors.Join(err, file.Close()) }()
	if err := file.SetSheetName("Sheet1", "history"); err != nil {
		return err
	}
	var w *excelize.StreamWriter
	n, sheets := mostOfSheet, 0
	row := func(cells []string) error {
		list := make([]any, len(cells))
		for i, c := range cells {
			list[i] = sheet.Shown(c)
		}
		n++
		return w.SetRow("A"+strconv.Itoa(n), list)
	}
	begin := func() error {
		name := "history"
		if sheets++; sheets > 1 {
			name = fmt.Sprintf("history %d", sheets)
			if _, err := file.NewSheet(name); err != nil {
				return err
			}
		}
		if w != nil {
			if err := w.Flush(); err != nil {
				return err
			}
		}
		var err error
		if w, err = file.NewStreamWriter(name); err != nil {
			return err
		}
		for i, width := range []float64{22, 14, 30, 18, 34, 34, 22, 8, 22, 16, 20} {
			if err := w.SetColWidth(i+1, i+1, width); err != nil {
				return err
			}
		}
		if err := w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
			return err
		}
		n = 0
		return row(spanHeader())
	}
	if err := begin(); err != nil {
		return err
	}
	err = each(func(r audit.Reached) error {
		if n >= mostOfSheet {
			if err := begin(); err != nil {
				return err
			}
		}
		return row(spanRow(r))
	})
	if err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return file.Write(out)
}

var spanTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("span").Parse(`{{define "top"}}<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="{{.Policy}}">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}}</title>
<style>{{.Style}}</style>
</head>
<body>
<header class="top"><h1>{{.Title}}</h1><p>Made {{.Made}} by <bdi>{{.By}}</bdi>.</p></header>
<main>{{end}}{{define "occasion"}}{{if .Again}}</tbody></table></section>{{end}}
<section><h2><bdi>{{.When}}</bdi>, <bdi>{{.What}}</bdi></h2>
<table class="fields"><thead><tr><th scope="col">record</th><th scope="col">field</th><th scope="col">before</th><th scope="col">after</th><th scope="col">what</th></tr></thead>
<tbody>{{end}}{{define "row"}}<tr>{{range .}}<td><bdi>{{.}}</bdi></td>{{end}}</tr>
{{end}}{{define "bottom"}}{{if .Again}}</tbody></table></section>{{end}}</main>
</body>
</html>
{{end}}`))
})

// SpanHTML writes it as one page, in which nothing runs.
func SpanHTML(out io.Writer, title, made, by string, each spanEach) error {
	w := bufio.NewWriterSize(out, 1<<16)
	err := spanTemplate().ExecuteTemplate(w, "top", map[string]any{
		"Policy": "default-src 'none'; base-uri 'none'; form-action 'none'; style-src " + policySum(pageStyle),
		"Style":  template.CSS(pageStyle), // #nosec G203 -- the program's own
		"Title":  title, "Made": text.When(made), "By": show.Harmless(by)})
	if err != nil {
		return err
	}
	last := ""
	err = each(func(r audit.Reached) error {
		if of := text.When(r.At) + r.Occasion(); of != last {
			err := spanTemplate().ExecuteTemplate(w, "occasion", map[string]any{"Again": last != "", "When": text.When(r.At),
				"What": show.Harmless(r.Occasion())})
			if err != nil {
				return err
			}
			last = of
		}
		row := spanRow(r)
		return spanTemplate().ExecuteTemplate(w, "row", append(row[2:6:6], show.Harmless(r.Became())))
	})
	if err != nil {
		return err
	}
	if err := spanTemplate().ExecuteTemplate(w, "bottom", map[string]any{"Again": last != ""}); err != nil {
		return err
	}
	return w.Flush()
}
