package session

import (
	"context"
	"log/slog"
	"time"

	"anagram/internal/environment"
	"anagram/internal/environment/connect"

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
	Log       *slog.Logger // nil is none
	Dir       string       // the working folder, absolute
	Environ   []string     // the variables around the run, NAME=value
	Config    string       // the person's own configuration folder; "" is not known
	// Connect opens environments; nil is the connectors of the program.
	Connect func(context.Context, connect.Target) (environment.Environment, error)
}

// Progress is told what a step is at.
type Progress interface {
	// Start begins a stretch of work; total is 0 where it is not known.
	Start(what string, total int)
	Add(n int)
	Done()
}

// mostCounted is how far the records of a type are counted beforehand.
const mostCounted = 2_000_000

// Total counts the records of a type in an environment for somebody who sees the progress; 0
// is that nobody does, or that there are more than are worth counting.
func (s *Session) Total(ctx context.Context, d Described, place string) int {
	shown, ok := s.Progress.(interface{ Shown() bool })
	if !ok || !shown.Shown() || d.Environment == nil {
		return 0
	}
	prober := d.Environment.Can().Prober
	if prober == nil {
		return 0
	}
	n, err := prober.CountUpTo(ctx, place, mostCounted)
	if err != nil || n >= mostCounted {
		return 0
	}
	return n
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

// Moment reads a date, whose beginning in UTC is meant, or a time, as people type them.
func Moment(text string) (at time.Time, ok bool) {
	for _, form := range []string{time.RFC3339, time.DateOnly, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04",
		"2006-01-02 15:04"} {
		if t, err := time.Parse(form, text); err == nil {
			return t.UTC(), true
		}
	}
	return at, false
}

// Minute gives a moment as people read it.
func Minute(stamp string) string {
	t, err := time.Parse(time.RFC3339, stamp)
	if err != nil {
		return stamp
	}
	return t.UTC().Format("2006-01-02 15:04 UTC")
}
