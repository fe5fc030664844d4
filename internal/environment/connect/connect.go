// Package connect opens an environment by the scheme of its address, and finds its
// password.
package connect

import (
	"context"
	"fmt"

	"anagram/internal/environment"
	"anagram/internal/environment/folder"
	"anagram/internal/environment/sqldb/mysql"
	"anagram/internal/environment/sqldb/postgres"
	"anagram/internal/environment/sqldb/sqlite"
)

// Target says which environment is to be opened.
type Target struct {
	Name     string
	Scheme   string
	Address  string // of a file, its absolute path; of a server, the whole URL
	Password string // "" leaves it to the database's own conventions
	ReadOnly bool
}

// Open opens the environment. The error is an *environment.Error.
func Open(ctx context.Context, t Target) (environment.Environment, error) {
	switch t.Scheme {
	case "sqlite":
		return sqlite.Open(ctx, t.Name, t.Address, t.ReadOnly)
	case "folder":
		return folder.Open(ctx, t.Name, t.Address, t.ReadOnly)
	case "postgres":
		return postgres.Open(ctx, t.Name, t.Address, t.Password, t.ReadOnly)
	case "mysql":
		return mysql.Open(ctx, t.Name, t.Address, t.Password, t.ReadOnly)
	default:
		return nil, &environment.Error{Environment: t.Name, Message: fmt.Sprintf("there is no way to connect called %q.", t.Scheme)}
	}
}
