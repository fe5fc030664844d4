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
	TLSOff   bool // a password may go over a connection that is not proven to be the server's
}

// Where tells where an address leads, without going there. The error is an
// *environment.Error.
func Where(name, scheme, address string) (environment.Where, error) {
	switch scheme {
	case "postgres":
		return postgres.Where(name, address)
	case "mysql":
		return mysql.Where(name, address)
	default:
		return environment.Where{Server: address, Here: true}, nil
	}
}

// Open opens the environment. The error is an *environment.Error.
func Open(ctx context.Context, t Target) (environment.Environment, error) {
	switch t.Scheme {
	case "sqlite":
		return sqlite.Open(ctx, t.Name, t.Address, t.ReadOnly)
	case "folder":
		return folder.Open(ctx, t.Name, t.Address, t.ReadOnly)
	case "postgres":
		return postgres.Open(ctx, t.Name, t.Address, postgres.Options{Password: t.Password, ReadOnly: t.ReadOnly, TLSOff: t.TLSOff})
	case "mysql":
		return mysql.Open(ctx, t.Name, t.Address, mysql.Options{Password: t.Password, ReadOnly: t.ReadOnly, TLSOff: t.TLSOff})
	default:
		return nil, &environment.Error{Environment: t.Name, Message: fmt.Sprintf("there is no way to connect called %q.", t.Scheme)}
	}
}
