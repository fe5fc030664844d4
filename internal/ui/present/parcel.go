package present

import (
	"fmt"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/library"
	"anagram/internal/store/parcel"
	"anagram/internal/ui/wire"
)

// Parcel shows what a parcel holds, and what moved in its source since.
func Parcel(a *Page, p *parcel.Reader, moved []check.Moved, reached bool) error {
	m := p.Manifest
	if a.JSON {
		return a.PrintJSON(m)
	}
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%-11s%s", name, text), "           "))
		}
	}
	line("parcel", m.Name)
	line("note", m.Note)
	line("source", m.Source)
	made := "exported"
	if m.Origin != "" {
		made = "by hand"
	}
	line(made, When(m.ExportedAt)+" by "+m.ExportedBy)
	for _, r := range m.Resealed {
		line("edited", When(r.At)+" by "+r.By+": "+r.Note)
	}
	line("selection", choose.SelectionWords(m.Selection))
	if c, ok := check.Source(m.Name, m.Source, moved); ok {
		line("now", c.Message+" "+c.Mend)
	} else if reached {
		line("now", "nothing in its scope has a later stamp in "+m.Source)
	}
	line("seal", strings.TrimPrefix(m.Seal, "sha256:"))
	fmt.Fprintln(a.Out)
	TypeCounts(a, m)
	Referred(a, m)
	if len(m.Files) > 0 {
		Printf(a.Out, "\n%s\n", Count(len(m.Files), "attachment"))
	}
	return nil
}

// Record shows one record of a parcel.
func Record(a *Page, p *parcel.Reader, r library.Record) error {
	if a.JSON {
		line := record.AppendLine(nil, r.Type.Fields, r.Record)
		return a.PrintJSON(wire.ParcelRecord{Address: r.Address, Type: r.Type.Name, Record: line})
	}
	out := a.Coloured()
	why := ""
	switch r.Why {
	case parcel.WhyAlong:
		why = "  came along: " + r.Through
	case parcel.WhyOwner:
		why = "  came along: owner of " + r.Through
	}
	fmt.Fprintln(out, Strong.Render(r.Address)+why)
	width := 0
	for _, f := range r.Type.Fields {
		width = max(width, len(f.Name))
	}
	for i, f := range r.Type.Fields {
		if _, unreadable := r.Values[i].Unreadable(); r.Values[i].IsAbsent() && !unreadable {
			continue
		}
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("  %-*s  %s", width, f.Name, show.Readable(show.Show(p.Catalog, f, r.Values[i]))),
			strings.Repeat(" ", width+2)))
	}
	return nil
}
