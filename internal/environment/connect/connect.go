// Package connect opens an environment by the scheme of its address, and finds its
// password.
package connect

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/environment/folder"
	"anagram/internal/environment/odata"
	"anagram/internal/environment/scim"
	"anagram/internal/environment/sqldb/mysql"
	"anagram/internal/environment/sqldb/postgres"
	"anagram/internal/environment/sqldb/sqlite"
	"anagram/internal/environment/web"
)

// Target says which environment is to be opened.
type Target struct {
	Name     string
	Scheme   string
	Address  string // of a file, its absolute path; of a server, the whole URL
	Password string // "" leaves it to the database's own conventions
	ReadOnly bool
	TLSOff   bool // a password may go over a connection that is not proven to be the server's
	Web      Web  // of a service on the web
	Around   environment.Surroundings
}

// Web says how a service on the web is reached, beyond address and password.
type Web struct {
	Sign    web.Sign
	Headers map[string]string
	Pace    web.Pace
	Page    int
	Batch   string
	Log     *slog.Logger
}

// webAddress takes the protocol from before an address.
func webAddress(address string) string {
	_, rest, _ := strings.Cut(address, "+")
	return rest
}

// Where tells where an address leads, without going there. The error is an
// *environment.Error.
func Where(around environment.Surroundings, name, scheme, address string) (environment.Where, error) {
	switch scheme {
	case "postgres":
		return postgres.Where(around, name, address)
	case "mysql":
		return mysql.Where(name, address)
	case "odata+https", "odata+http", "scim+https", "scim+http":
		u, err := url.Parse(webAddress(address))
		if err != nil {
			return environment.Where{}, &environment.Error{Environment: name, Message: "its address is none of a service.",
				Mend: environment.MendAddress}
		}
		return environment.Where{Server: u.Host, Account: u.User.Username(), Here: web.Here(u.Hostname())}, nil
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
		return postgres.Open(ctx, t.Name, t.Address, postgres.Options{Password: t.Password, ReadOnly: t.ReadOnly, TLSOff: t.TLSOff,
			Around: t.Around})
	case "mysql":
		return mysql.Open(ctx, t.Name, t.Address, mysql.Options{Password: t.Password, ReadOnly: t.ReadOnly, TLSOff: t.TLSOff})
	case "odata+https", "odata+http", "scim+https", "scim+http":
		base := webAddress(t.Address)
		account := ""
		if u, err := url.Parse(base); err == nil {
			account = u.User.Username()
		}
		over := web.Options{Name: t.Name, Base: base, Password: t.Password, Sign: t.Web.Sign, Headers: t.Web.Headers,
			Pace: t.Web.Pace, TLSOff: t.TLSOff, Log: t.Web.Log, Around: t.Around}
		if strings.HasPrefix(t.Scheme, "scim") {
			return scim.Open(ctx, scim.Options{Account: account, ReadOnly: t.ReadOnly, Page: t.Web.Page, Web: over})
		}
		return odata.Open(ctx, odata.Options{Account: account, ReadOnly: t.ReadOnly, Page: t.Web.Page, Batch: t.Web.Batch, Web: over})
	default:
		return nil, &environment.Error{Environment: t.Name, Message: fmt.Sprintf("there is no way to connect called %q.", t.Scheme)}
	}
}
