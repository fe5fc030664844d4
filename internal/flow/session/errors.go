package session

import (
	"fmt"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
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
