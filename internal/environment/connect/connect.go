// Package connect opens an environment by the scheme of its address.
package connect

import (
	"context"
	"fmt"

	"anagram/internal/environment"
	"anagram/internal/environment/sqldb"
)

// Target says which environment is to be opened.
type Target struct {
	Name     string
	Scheme   string
	Address  string // what follows the scheme; a path is absolute here
	ReadOnly bool
}

// Open opens the environment. The error is an *environment.Error.
func Open(ctx context.Context, t Target) (environment.Environment, error) {
	switch t.Scheme {
	case "sqlite":
		return sqldb.OpenSQLite(ctx, t.Name, t.Address, t.ReadOnly)
	default:
		return nil, &environment.Error{Environment: t.Name, Message: fmt.Sprintf("there is no way to connect called %q.", t.Scheme)}
	}
}
