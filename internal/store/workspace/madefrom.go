package workspace

import (
	"slices"
	"time"

	"anagram/internal/core/yamldoc"
)

// MadeFrom says that an environment is a copy of another one as that was at a time; no environment is
// that nothing is said.
type MadeFrom struct {
	Environment string
	At          time.Time
}

// madeFromForm says which environment this one was copied from, and when.
type madeFromForm struct {
	Environment string `yaml:"environment"`
	On          string `yaml:"on"`
}

// readMadeFrom reads of which environment this one is a copy. A date means its end, in the zone of the
// environment.
func readMadeFrom(doc *yamldoc.Document, name string, described madeFromForm, e *Environment) error {
	if described == (madeFromForm{}) {
		return nil
	}
	at := []string{"environments", name, "made_from"}
	if described.Environment == "" || described.Environment == name {
		return doc.Errorf(at, "environment %s: made_from: names no other environment; it looks like {environment: production, on: 2026-10-01}", name)
	}
	zone := e.Zone
	if zone == nil {
		zone = time.UTC
	}
	day, err := time.ParseInLocation(time.DateOnly, described.On, zone)
	if err == nil {
		e.MadeFrom = MadeFrom{described.Environment, day.AddDate(0, 0, 1).Add(-time.Microsecond)}
		return nil
	}
	moment, err := time.Parse(time.RFC3339, described.On)
	if err != nil {
		return doc.Errorf(at, "environment %s: made_from: on: %q is neither a date such as 2026-10-01 nor a time such as 2026-10-01T06:00:00+02:00", name, described.On)
	}
	e.MadeFrom = MadeFrom{described.Environment, moment}
	return nil
}

// copies refuses an environment that is a copy of one that is not described.
func (w *Workspace) copies(doc *yamldoc.Document) error {
	var names []string
	for _, e := range w.Environments {
		names = append(names, e.Name)
	}
	for _, e := range w.Environments {
		if from := e.MadeFrom.Environment; from != "" && !slices.Contains(names, from) {
			return doc.Unknown([]string{"environments", e.Name, "made_from", "environment"}, "environment", from, names)
		}
	}
	return nil
}

// CopiedAt tells when one of two environments was copied from the other; ok is false where nothing
// says so.
func (w *Workspace) CopiedAt(a, b string) (at time.Time, ok bool) {
	for _, e := range w.Environments {
		if e.Name == a && e.MadeFrom.Environment == b || e.Name == b && e.MadeFrom.Environment == a {
			if e.MadeFrom.At.After(at) {
				at, ok = e.MadeFrom.At, true
			}
		}
	}
	return at, ok
}
