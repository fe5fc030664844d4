package run

import (
	"context"
	"encoding/json"
	"time"

	"anagram/internal/files/sqlitefile"
)

// What is run around an import stands in the chain: that it begins, before anything of it is
// run, and how it ended, so that what has to be run afterwards is run even after a kill.

// States of what is run around an import.
const (
	AroundBegins = "begins"
	AroundEnds   = "ends"
)

type around struct {
	State string `json:"state"`
	At    string `json:"at"`
	Who   string `json:"who"`
	// Ticked are the reminders that the person said were seen to.
	Ticked []string `json:"ticked,omitempty"`
}

// Surround records durably that what is run around an import begins, or that it ended.
func Surround(ctx context.Context, b Book, state, who string, at time.Time, ticked []string) error {
	return changed(ctx, b, linkAround, around{state, Stamp(at), who, ticked})
}

// AfterDue reports whether what is run before an import was begun, and what is run after it
// did not end.
func AfterDue(ctx context.Context, b Book) (bool, error) {
	texts, err := read(ctx, b, sqlitefile.One[string], "SELECT content FROM links WHERE kind = ? ORDER BY seq DESC LIMIT 1", linkAround)
	if err != nil || len(texts) == 0 {
		return false, err
	}
	var last around
	err = json.Unmarshal([]byte(texts[0]), &last)
	return last.State == AroundBegins, b.Wrap(err)
}
