package choose

import (
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
)

// Selections that grow and shrink by records while a change is built.

// Added says what a selection got, or lost.
type Added struct {
	Records []string // those that it names by now
	Changed []string // added, or removed
	Had     int      // of those given: were there before, or were not
}

// Names lists the selections of the workspace, in order.
func Names(s *session.Session) []string { return slices.Sorted(maps.Keys(s.Workspace.Selections)) }

// Named gives a selection of the workspace.
func Named(s *session.Session, name string) (parcel.Selection, error) {
	sel, ok := s.Workspace.Selections[name]
	if !ok {
		return parcel.Selection{}, session.Usage("anagram.yaml has no selection %q%s", name, yamldoc.Nearest(name, Names(s)))
	}
	out := parcel.Selection(sel)
	out.Saved = name
	return out, nil
}

// Add adds records, by their addresses or by patterns, to a selection; one that is not there
// is made.
func Add(s *session.Session, name string, addresses []string) (Added, error) {
	out := Added{}
	if err := known(s, addresses); err != nil {
		return out, err
	}
	out.Records = slices.Clone(s.Workspace.Selections[name].Records)
	for _, address := range addresses {
		if slices.Contains(out.Records, address) {
			out.Had++
			continue
		}
		out.Records, out.Changed = append(out.Records, address), append(out.Changed, address)
	}
	if len(out.Changed) == 0 {
		return out, nil
	}
	return out, s.Workspace.SetRecords(name, out.Records)
}

// Remove takes records out of a selection.
func Remove(s *session.Session, name string, addresses []string) (Added, error) {
	out := Added{}
	sel, err := Named(s, name)
	if err != nil {
		return out, err
	}
	for _, address := range addresses {
		if !slices.Contains(sel.Records, address) {
			return out, session.Usage("The selection %s does not name %s%s", name, address, yamldoc.Nearest(address, sel.Records))
		}
	}
	for _, have := range sel.Records {
		if slices.Contains(addresses, have) {
			out.Changed = append(out.Changed, have)
		} else {
			out.Records = append(out.Records, have)
		}
	}
	return out, s.Workspace.SetRecords(name, out.Records)
}

// known refuses what is no address of a type of the catalog.
func known(s *session.Session, addresses []string) error {
	c, err := s.Workspace.Catalog()
	if err != nil {
		return err
	}
	for _, address := range addresses {
		if strings.ContainsAny(address, "\n\r") {
			return session.Usage("%q is no address", address)
		}
		if _, err := readPattern(c, address); err != nil {
			return err
		}
	}
	return nil
}
