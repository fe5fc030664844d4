package session

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/show"
	"anagram/internal/core/yamldoc"
)

// UsageError is a request that cannot be carried out as it was made.
type UsageError struct{ Message string }

func (e *UsageError) Error() string { return e.Message }

// Usage makes a *UsageError.
func Usage(format string, args ...any) error {
	return &UsageError{Message: fmt.Sprintf(format, args...)}
}

// CatalogError is a catalog that does not hold in an environment.
type CatalogError struct {
	Catalog     string // its file
	Environment string
	Problems    []catalog.Problem
}

func (e *CatalogError) Error() string { return strings.Join(e.Lines(), "\n") }

// Lines gives what is wrong, a line each.
func (e *CatalogError) Lines() []string {
	out := []string{fmt.Sprintf("The catalog does not hold in %s:", e.Environment)}
	for _, p := range e.Problems {
		out = append(out, fmt.Sprintf("  %s line %d, %s: %s", e.Catalog, p.Line, p.Type, p.Message))
	}
	return out
}

// BlockedError is a whole docket that may not be imported.
type BlockedError struct {
	Docket int
	Checks []check.Check
}

func (e *BlockedError) Error() string { return strings.Join(e.Lines(), "\n") }

// Lines gives what blocks, a line each.
func (e *BlockedError) Lines() []string {
	out := []string{fmt.Sprintf("Docket %d is blocked; nothing was written.", e.Docket)}
	for _, c := range e.Checks {
		out = append(out, fmt.Sprintf("  %s: %s %s", c.Code, c.Message, c.Mend))
	}
	return out
}

// UnknownType refuses a word that is no record type, with the nearest that is.
func UnknownType(c *catalog.Catalog, name string) error {
	return Usage("The catalog has no record type %q%s", name, yamldoc.Nearest(name, c.Names()))
}

// BrokenOffError is an import that stopped half way in a target without transactions.
type BrokenOffError struct {
	Docket        int
	Target        string
	Written, Left int // records
	Cause         error
}

func (e *BrokenOffError) Error() string {
	why := ""
	if e.Cause != nil && !errors.Is(e.Cause, context.Canceled) {
		why = " (" + strings.TrimSuffix(e.Cause.Error(), ".") + ")"
	}
	return fmt.Sprintf("The import of docket %d into %s was broken off%s: of %d records %d were written. Finish it with anagram import %d --resume, or take it back with anagram restore %d.",
		e.Docket, e.Target, why, e.Written+e.Left, e.Written, e.Docket, e.Docket)
}

// Unwrap gives the cause.
func (e *BrokenOffError) Unwrap() error { return e.Cause }

// OpenError is an import that is only to happen where everything is decided.
type OpenError struct{ Docket, Open int }

func (e *OpenError) Error() string {
	verb := "are"
	if e.Open == 1 {
		verb = "is"
	}
	return fmt.Sprintf("%s of docket %d %s open, so nothing was written. Decide on what is listed by anagram review %d --decision open, then import again.", show.Count(e.Open, "finding", "findings"), e.Docket, verb, e.Docket)
}
