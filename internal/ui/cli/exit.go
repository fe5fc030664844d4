package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
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

// exit prints an error and gives the exit code that follows from its type.
func (a *app) exit(err error) int {
	if err == nil {
		return a.code
	}
	code := a.codeOf(err)
	text := err.Error()
	if code == exitInterrupted {
		text = "Interrupted. Nothing is half-written; the same command can be run again."
	}
	fmt.Fprintln(a.Err, a.wrap("anagram: "+text, ""))
	if code == exitUsage && !a.ran {
		fmt.Fprintln(a.Err, "See: anagram help")
	}
	return code
}

func (a *app) codeOf(err error) int {
	var (
		wrongUse    *session.UsageError
		badCatalog  *session.CatalogError
		badYAML     *yamldoc.Error
		noWorkspace *workspace.Error
		taken       *parcel.ExistsError
		blocked     *session.BlockedError
	)
	switch {
	case errors.Is(err, context.Canceled):
		return exitInterrupted
	case !a.ran, errors.As(err, &wrongUse), errors.As(err, &badCatalog), errors.As(err, &badYAML), errors.As(err, &noWorkspace), errors.As(err, &taken):
		return exitUsage
	case errors.As(err, &blocked):
		return exitBlocked
	default:
		return exitFailed
	}
}

// arguments checks the number of arguments; most is -1 for any.
func arguments(cmd *cobra.Command, given []string, least, most int) error {
	if len(given) < least || most >= 0 && len(given) > most {
		return &session.UsageError{Message: "usage: anagram " + strings.TrimPrefix(strings.TrimSuffix(cmd.UseLine(), " [flags]"), "anagram ")}
	}
	return nil
}
