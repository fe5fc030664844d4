package cli

import (
	"context"
	"fmt"
	"strings"

	"anagram/internal/flow/session"
	"anagram/internal/flow/whereabouts"
	"anagram/internal/ui/text"
)

// printWhereabouts tells in which environments a parcel is.
func (a *app) printWhereabouts(ctx context.Context, s *session.Session, name string, ask bool) error {
	stays, err := whereabouts.Of(ctx, s, name, ask)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"parcel": name, "environments": stays})
	}
	printf(a.Out, "parcel %s\n\n", name)
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
			cells[3], cells[4], cells[5], cells[6] = when(y.ImportedAt), dot(y.New), dot(y.Changed), dot(y.LeftOut)
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
	a.printTable(t, "")
	for _, y := range stays {
		if y.Failure != "" {
			fmt.Fprintln(a.Out, a.wrap(y.Environment+" cannot be asked: "+y.Failure, "  "))
		}
	}
	for _, y := range stays {
		switch y.State {
		case whereabouts.NotMatched:
			a.next("anagram match", arg(name), "--against", arg(y.Environment))
			return nil
		case whereabouts.Matched:
			a.next(fmt.Sprintf("anagram review %d", y.Docket))
			return nil
		}
	}
	return nil
}
