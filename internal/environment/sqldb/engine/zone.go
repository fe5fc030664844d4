package engine

import (
	"fmt"
	"time"
)

// Zone gives a zone by the name or the offset that a server tells, nil where it is not
// known.
func Zone(name string) *time.Location {
	var sign rune
	var hours, minutes int
	if _, err := fmt.Sscanf(name, "%c%d:%d", &sign, &hours, &minutes); err == nil && (sign == '+' || sign == '-') {
		seconds := (hours*60 + minutes) * 60
		if sign == '-' {
			seconds = -seconds
		}
		return time.FixedZone(name, seconds)
	}
	if zone, err := time.LoadLocation(name); err == nil && name != "" && name != "Local" {
		return zone
	}
	return nil
}
