package shown

import (
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/show"
	"anagram/internal/store/docket"
)

// Changed says when and by whom a record was last changed on one side.
type Changed struct{ Environment, When, By string }

// Text says it in a line.
func (c Changed) Text() string {
	if c.By == "" {
		return c.Environment + " " + c.When
	}
	return c.Environment + " " + c.When + " by " + c.By
}

// ChangeOf says when and by whom a record was last changed, "" where it is not known.
func ChangeOf(c docket.Change) string {
	if c.At == "" {
		return ""
	}
	return changeOf(c).Text()
}

// ChangedText says it of both sides, "" where nothing is known.
func (f Finding) ChangedText() string {
	var parts []string
	for _, c := range f.Changed {
		parts = append(parts, c.Text())
	}
	return strings.Join(parts, ", ")
}

func changedOf(h docket.Header, f docket.Finding) []Changed {
	var out []Changed
	for _, c := range h.Changes(f) {
		out = append(out, changeOf(c))
	}
	return out
}

func changeOf(c docket.Change) Changed {
	out := Changed{Environment: show.Harmless(c.Environment), When: whenOf(c), By: show.Harmless(c.By)}
	if c.Own != nil {
		what := "import"
		if c.Own.Restore {
			what = "restore"
		}
		out.By = fmt.Sprintf("the %s of docket %d", what, c.Own.Docket)
	}
	return out
}

// whenOf writes a moment to the minute: as it stands there, with its zone, or that of the environment.
func whenOf(c docket.Change) string {
	at, ok := c.Moment()
	switch {
	case !ok:
		return show.Harmless(c.At)
	case strings.HasSuffix(c.At, "Z"):
		return at.UTC().Format("2006-01-02 15:04 UTC")
	case at.Location() != time.UTC || c.Zone != nil:
		return at.Format("2006-01-02 15:04 MST")
	default:
		return at.Format("2006-01-02 15:04") + " (local)"
	}
}
