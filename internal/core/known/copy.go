package known

import (
	"strings"
	"time"
)

// Copy says that one of two environments was made from the other, and when: a record whose stamp is not
// after that moment was not changed on its side since both were one.
type Copy struct {
	At     time.Time
	Source *time.Location // of stamps without a zone; nil is UTC
	Target *time.Location
}

// Told is what a stamp tells of a record.
type Told int

// A stamp may be missing, or not be read as a time.
const (
	Untold Told = iota
	AsCopied
	ChangedSince
)

// layouts of stamps, as environments tell them.
var layouts = []string{"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999", "2006-01-02"}

// Moment reads a stamp; ok is false where it is no time. Zone is of those without one; nil is UTC.
func Moment(stamp string, zone *time.Location) (at time.Time, ok bool) {
	if zone == nil {
		zone = time.UTC
	}
	for _, layout := range layouts {
		if at, err := time.ParseInLocation(layout, strings.Replace(stamp, " ", "T", 1), zone); err == nil {
			return at, true
		}
	}
	return at, false
}

func (c *Copy) tells(stamp string, zone *time.Location) Told {
	at, ok := Moment(stamp, zone)
	switch {
	case !ok:
		return Untold
	case at.After(c.At):
		return ChangedSince
	default:
		return AsCopied
	}
}

// OfSource tells whether the source changed a record since, by its stamp there.
func (c *Copy) OfSource(stamp string) Told { return c.tells(stamp, c.Source) }

// OfTarget is OfSource for the target.
func (c *Copy) OfTarget(stamp string) Told { return c.tells(stamp, c.Target) }
