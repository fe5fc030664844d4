package session

import (
	"time"

	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
)

// Session is what every step needs.
type Session struct {
	Workspace *workspace.Workspace
	Who       string        // the person at work, for the records that are kept
	Origin    docket.Origin // where they are at work
	Program   string        // name and version of the program, for parcels and dockets
	Now       func() time.Time
	Progress  Progress
}

// Progress is told what a step is at.
type Progress interface {
	// Start begins a stretch of work; total is 0 where it is not known.
	Start(what string, total int)
	Add(n int)
	Done()
}

// Zone is that of an environment's times without zone as the workspace says it, nil where it
// says nothing.
func (s *Session) Zone(environment string) *time.Location {
	if e, err := s.Workspace.Environment(environment); err == nil {
		return e.Zone
	}
	return nil
}

// Stamp is now as files have it: UTC, to the millisecond.
func (s *Session) Stamp() string { return s.Now().UTC().Format("2006-01-02T15:04:05.000Z07:00") }

// Minute gives a moment as people read it.
func Minute(stamp string) string {
	t, err := time.Parse(time.RFC3339, stamp)
	if err != nil {
		return stamp
	}
	return t.UTC().Format("2006-01-02 15:04 UTC")
}
