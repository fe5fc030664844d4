package present

import (
	"context"
	"fmt"
	"strings"

	"anagram/internal/flow/audit"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Whereabouts tells in which environments a parcel is.
func Whereabouts(ctx context.Context, a *Page, s *session.Session, name string, ask bool) error {
	stays, err := audit.Whereabouts(ctx, s, name, ask)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.WhereaboutsOf(name, stays))
	}
	Printf(a.Out, "parcel %s\n\n", name)
	t := text.Table{Columns: []string{"environment", ">docket", "state", "=imported", ">new", ">changed", ">left out", ">open"}}
	if ask {
		t.Columns = append(t.Columns, "now as approved")
	}
	for _, y := range stays {
		number := ""
		if y.Docket != 0 {
			number = fmt.Sprint(y.Docket)
		}
		cells := []string{y.Environment, number, strings.ReplaceAll(y.State, "-", " "), "", "", "", "", ""}
		if y.Docket != 0 {
			cells[7] = dot(y.Open)
		}
		if y.ImportedAt != "" {
			cells[3], cells[4], cells[5], cells[6] = When(y.ImportedAt), dot(y.New), dot(y.Changed), dot(y.LeftOut)
		}
		if ask {
			now := ""
			switch {
			case y.Failure != "":
				now = "cannot be asked"
			case y.AsApproved >= 0:
				now = fmt.Sprintf("%d of %d", y.AsApproved, y.Asked)
			}
			cells = append(cells, now)
		}
		t.Add(cells...)
	}
	a.PrintTable(t, "")
	for _, y := range stays {
		if y.Failure != "" {
			fmt.Fprintln(a.Out, a.Wrap(y.Environment+" cannot be asked: "+y.Failure, "  "))
		}
	}
	for _, y := range stays {
		switch y.State {
		case audit.NotMatched:
			a.Next("anagram match", Arg(name), "--against", Arg(y.Environment))
			return nil
		case audit.Matched:
			a.Next(fmt.Sprintf("anagram review %d", y.Docket))
			return nil
		}
	}
	return nil
}
