package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/check"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/audit"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
)

// Exit codes, the same in every command.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitOpen        = 3 // done, but findings ask for a decision
	exitBlocked     = 4 // blocked by checks or a guard, nothing written
	exitLeftOut     = 5 // imported, but some approved records were left out
	exitInterrupted = 6
)

// exit prints an error and gives the exit code.
func (a *app) exit(err error) int {
	code := codeOf(a.Result, err, a.ran)
	if err == nil {
		return code
	}
	text := err.Error()
	var half *session.BrokenOffError
	if code == exitInterrupted && !errors.As(err, &half) {
		text = "Interrupted. Nothing is half-written; the same command can be run again."
	}
	if code == exitFailed {
		text = session.WithRoom(err, text)
	}
	for _, line := range linesOf(err, text) {
		fmt.Fprintln(a.Err, a.Wrap(line, ""))
	}
	if code == exitUsage && !a.ran {
		fmt.Fprintln(a.Err, "See: anagram help")
	}
	return code
}

// linesOf gives an error's text in the lines that it has by itself: several errors, or one
// that lists what is wrong. Whatever else breaks a line is data.
func linesOf(err error, text string) []string {
	var listing interface{ Lines() []string }
	if several, ok := err.(interface{ Unwrap() []error }); ok && text == err.Error() {
		var out []string
		for i, one := range several.Unwrap() {
			lines := linesOf(one, one.Error())
			if i > 0 {
				lines[0] = strings.TrimPrefix(lines[0], "anagram: ")
			}
			out = append(out, lines...)
		}
		return out
	}
	if errors.As(err, &listing) && listing.(error).Error() == text {
		lines := slices.Clone(listing.Lines())
		lines[0] = "anagram: " + lines[0]
		return lines
	}
	return []string{"anagram: " + text}
}

// codeOf gives the exit code that follows from what a command found, or from the type of
// its error. Ran says that the command itself was reached. It is settled here and nowhere
// else.
func codeOf(result any, err error, ran bool) int {
	if err == nil {
		return codeOfResult(result)
	}
	var (
		wrongUse    *session.UsageError
		badCatalog  *session.CatalogError
		badYAML     *yamldoc.Error
		noWorkspace *workspace.Error
		taken       *parcel.ExistsError
		blocked     *session.BlockedError
		half        *session.BrokenOffError
		open        *session.OpenError
	)
	switch {
	case errors.Is(err, context.Canceled), errors.As(err, &half):
		return exitInterrupted
	case !ran, errors.As(err, &wrongUse), errors.As(err, &badCatalog), errors.As(err, &badYAML), errors.As(err, &noWorkspace),
		errors.As(err, &taken):
		return exitUsage
	case errors.As(err, &blocked):
		return exitBlocked
	case errors.As(err, &open):
		return exitOpen
	default:
		return exitFailed
	}
}

// codeOfResult is codeOf for commands that ended without an error.
func codeOfResult(result any) int {
	switch r := result.(type) {
	case matching.Result:
		if r.Open > 0 {
			return exitOpen
		}
	case audit.Proof:
		if !r.Sound() {
			return exitOpen
		}
	case importing.Result:
		switch {
		case r.Outcome == run.Failed || r.Outcome == run.Unknown || r.AfterFailed != nil:
			return exitFailed
		case r.Outcome == run.Blocked:
			return exitBlocked
		case len(r.LeftOut) > 0, r.Outcome == run.WrittenOtherwise:
			return exitLeftOut
		case r.Nothing() && r.Open > 0:
			return exitOpen
		}
	case []inspect.EnvironmentReport:
		if slices.ContainsFunc(r, func(e inspect.EnvironmentReport) bool { return e.Err != nil }) {
			return exitFailed
		}
	case fit.CatalogReports:
		switch {
		case slices.ContainsFunc(r.Environments, func(e fit.CatalogReport) bool { return e.Broken() > 0 }):
			return exitUsage
		case slices.ContainsFunc(r.Checks, func(c check.Check) bool { return c.Level == check.Blocker }):
			return exitBlocked
		}
	}
	return exitDone
}

// arguments checks the number of arguments; most is -1 for any.
func arguments(cmd *cobra.Command, given []string, least, most int) error {
	if len(given) < least || most >= 0 && len(given) > most {
		return &session.UsageError{Message: "usage: anagram " + strings.TrimPrefix(strings.TrimSuffix(cmd.UseLine(), " [flags]"),
			"anagram ")}
	}
	return nil
}
