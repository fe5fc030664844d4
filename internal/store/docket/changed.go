package docket

import (
	"encoding/json"
	"time"

	"anagram/internal/core/known"
	"anagram/internal/core/record"
)

// Change is when and by whom a record was last changed on one side, as the environment told it when it
// was read.
type Change struct {
	Environment string
	At          string         // as it stands there; without a zone it is that of the environment
	Zone        *time.Location // of a time without one; nil is not known
	By          string
	Own         *known.Own // where that was an import or a restore of this workspace; else nil
}

// Changes gives the last change of a finding's record on either side, the source's first, where it is
// known.
func (h Header) Changes(f Finding) []Change {
	entry := stamped(f.Agreed)
	var out []Change
	for _, side := range []struct{ name, line string }{{h.Source, f.Source}, {h.Target, f.Target}} {
		rec := stamped(side.line)
		if rec.ChangedAt == "" {
			continue
		}
		one := Change{Environment: side.name, At: rec.ChangedAt, By: rec.ChangedBy, Own: known.OwnOf(&entry, side.name, &rec)}
		if zone := h.Zones[side.name]; zone != "" {
			one.Zone, _ = time.LoadLocation(zone)
		}
		out = append(out, one)
	}
	return out
}

// ChangeIn gives the last change of a finding's record on one side; At is "" where it is not known.
func (h Header) ChangeIn(f Finding, environment string) Change {
	for _, c := range h.Changes(f) {
		if c.Environment == environment {
			return c
		}
	}
	return Change{}
}

// Brief gives a finding with no more of its sides than that they are there, and their stamps.
func (f Finding) Brief() Finding {
	for _, line := range []*string{&f.Source, &f.Target, &f.Agreed} {
		if *line == "" {
			continue
		}
		rec := stamped(*line)
		text, err := json.Marshal(stamps{rec.ChangedAt, rec.ChangedBy, rec.Through})
		if err == nil {
			*line = string(text)
		}
	}
	return f
}

// stamps are what a line has beside key and values.
type stamps struct {
	At      string `json:"changed_at"`
	By      string `json:"changed_by"`
	Through string `json:"through"`
}

// stamped reads what a line has beside key and values.
func stamped(line string) record.Record {
	var of stamps
	if line == "" || json.Unmarshal([]byte(line), &of) != nil {
		return record.Record{}
	}
	return record.Record{ChangedAt: of.At, ChangedBy: of.By, Came: record.Came{Through: of.Through}}
}

// Moment gives the time of the change; ok is false where it cannot be told.
func (c Change) Moment() (at time.Time, ok bool) { return known.Moment(c.At, c.Zone) }
