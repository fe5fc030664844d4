package record

import (
	"fmt"
	"time"
)

// Times without a zone become instants, and back, only in a zone that is known, and only
// where nothing is lost: an hour that a change of clocks leaves out or repeats is an error.

const localForm = "2006-01-02T15:04:05.999999"

// InZone gives the local timestamp that an instant is in a zone. Another kind of value
// stays as it is.
func (v Value) InZone(zone *time.Location) (Value, error) {
	if v.kind != Timestamp {
		return v, nil
	}
	at, err := time.Parse(time.RFC3339Nano, v.text)
	if err != nil {
		return v, err
	}
	local := Value{kind: LocalTimestamp, text: at.In(zone).Format(localForm)}
	if at.In(zone).Year() < 1 || at.In(zone).Year() > 9999 {
		return v, fmt.Errorf("%s is outside the years 1 to 9999 in the zone %s", v.text, zone)
	}
	_, err = local.AtZone(zone)
	return local, err
}

// AtZone gives the instant that a local timestamp is in a zone. Another kind of value stays
// as it is.
func (v Value) AtZone(zone *time.Location) (Value, error) {
	if v.kind != LocalTimestamp {
		return v, nil
	}
	asUTC, err := time.Parse(localForm, v.text)
	if err != nil {
		return v, err
	}
	// What is in force a day before and a day after are the offsets that it can have.
	var found []time.Time
	for _, near := range []time.Time{asUTC.Add(-26 * time.Hour), asUTC.Add(26 * time.Hour)} {
		_, offset := near.In(zone).Zone()
		at := asUTC.Add(-time.Duration(offset) * time.Second)
		if at.In(zone).Format(localForm) == v.text && (len(found) == 0 || !found[0].Equal(at)) {
			found = append(found, at)
		}
	}
	switch len(found) {
	case 0:
		return v, fmt.Errorf("there is no %s in the zone %s, as its clocks are put forward then. Correct the value", v.text, zone)
	case 1:
		return Parse(Timestamp, found[0].UTC().Format(time.RFC3339Nano))
	default:
		return v,
			fmt.Errorf("%s occurs twice in the zone %s, as its clocks are put back then. Correct the value, or leave the field out with ignore: in the catalog", v.text, zone)
	}
}
