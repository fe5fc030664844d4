package present

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/export"
	"anagram/internal/store/parcel"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Asked is what a person asked to be exported.
type Asked struct {
	export.Request
	Where       []string
	Saved, Save string
}

// Export says what an export put into its parcel.
func Export(a *Page, result export.Result) error {
	m := result.Manifest
	if a.JSON {
		return a.PrintJSON(wire.ExportOf(result))
	}
	text := fmt.Sprintf("Exported %s of %s from %s into parcel %s", Count(m.Records(), "record"), Count(len(m.Types), "record type"),
		m.Source, m.Name)
	if along := m.Records() - m.Chosen(); along > 0 {
		text += fmt.Sprintf(": %d chosen and %d that came along", m.Chosen(), along)
	}
	if len(m.Files) > 0 {
		text += ", with " + Count(len(m.Files), "attachment")
	}
	Printf(a.Out, "%s\n\n", a.Wrap(text+".", ""))
	TypeCounts(a, m)
	Referred(a, m)
	if result.Earlier > 0 {
		fmt.Fprintln(a.Out, "\n"+a.Wrap(fmt.Sprintf("Of those chosen %d did not change since the last import: earlier dockets have them, and no import brought them; %d others were chosen.",
			result.Earlier, m.Chosen()-result.Earlier), ""))
	}
	if len(result.Unstamped) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.Wrap(fmt.Sprintf("Without stamps, so all of their records are chosen: %s.",
			strings.Join(result.Unstamped, ", ")), ""))
	}
	if len(result.NeverBrought) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.Wrap(fmt.Sprintf("In no import so far, so all of their records are chosen: %s.",
			strings.Join(result.NeverBrought, ", ")), ""))
	}
	if len(result.UnstampedParts) > 0 {
		fmt.Fprintln(a.Out, "\n"+a.Wrap(fmt.Sprintf("Parts without stamps, taken only with an owner that is taken: %s.",
			strings.Join(result.UnstampedParts, ", ")), ""))
	}
	if len(result.LeftNothing) > 0 {
		fmt.Fprintln(a.Coloured(), "\n"+a.Wrap(Tone("caution")+fmt.Sprintf(" No record fits what was to be left out: %s.",
			strings.Join(result.LeftNothing, ", ")), ""))
	}
	unreadable(a, result)
	Printf(a.Out, "\n%s (%s)\n", result.File, Size(result.Bytes))
	a.Next("anagram match", Arg(m.Name), "--against ENVIRONMENT")
	return nil
}

// unreadable says which records hold what cannot be read, and which have no key that can.
func unreadable(a *Page, result export.Result) {
	say := func(named []string, format string, args ...any) {
		fmt.Fprintln(a.Coloured(), "\n"+a.Wrap(Tone("caution")+fmt.Sprintf(format, args...), ""))
		for _, one := range named {
			fmt.Fprintln(a.Coloured(), a.Wrap("  "+show.Harmless(one), "    "))
		}
	}
	if n := result.Unread.Records; n > 0 {
		say(result.Unread.Named, " %s a value that cannot be read, and cannot be approved:", show.Count(n, "record has", "records have"))
	}
	for _, t := range result.Manifest.Types {
		if u := t.Unkeyed; u != nil {
			say(u.Named, " of %s %s a key that cannot be read; nothing in the parcel but this note tells of it:", t.Name,
				show.Count(u.Records, "record has", "records have"))
		}
	}
}

// TypeCounts lists how many records of each type a parcel has.
func TypeCounts(a *Page, m parcel.Manifest) {
	t := text.Table{Columns: []string{"record type", ">records"}}
	along := m.Records() > m.Chosen()
	if along {
		t.Columns = []string{"record type", ">chosen", ">along"}
	}
	for _, typ := range m.Types {
		if along {
			t.Add(typ.Name, dot(typ.Chosen), dot(typ.Records-typ.Chosen))
		} else {
			t.Add(typ.Name, fmt.Sprint(typ.Records))
		}
	}
	a.PrintTable(t, "  ")
}

// Referred says how many records are referred to and not in a parcel.
func Referred(a *Page, m parcel.Manifest) {
	if n := referredCount(m); n > 0 {
		verb := "are"
		if n == 1 {
			verb = "is"
		}
		Printf(a.Out, "\n%s\n", a.Wrap(fmt.Sprintf("%s %s only referred to and not in the parcel.", Count(n, "record"), verb), ""))
	}
}

func referredCount(m parcel.Manifest) int {
	if m.Referred == nil {
		return 0
	}
	return m.Referred.Records
}
