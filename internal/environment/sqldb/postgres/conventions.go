package postgres

import (
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"anagram/internal/environment"
)

// conventions are PostgreSQL's own variables by the parameter of an address that says the
// same (https://www.postgresql.org/docs/current/libpq-envars.html), as far as the driver
// knows them.
var conventions = map[string]string{
	"PGHOST": "host", "PGPORT": "port", "PGDATABASE": "dbname", "PGUSER": "user", "PGPASSWORD": "password", "PGPASSFILE": "passfile",
	"PGAPPNAME":         "application_name",
	"PGCONNECT_TIMEOUT": "connect_timeout", "PGSSLMODE": "sslmode", "PGSSLKEY": "sslkey", "PGSSLCERT": "sslcert",
	"PGSSLCERTMODE": "sslcertmode", "PGSSLSNI": "sslsni",
	"PGSSLROOTCERT": "sslrootcert", "PGSSLPASSWORD": "sslpassword", "PGSSLNEGOTIATION": "sslnegotiation",
	"PGTARGETSESSIONATTRS": "target_session_attrs", "PGSERVICE": "service",
	"PGSERVICEFILE": "servicefile", "PGTZ": "timezone", "PGOPTIONS": "options", "PGMINPROTOCOLVERSION": "min_protocol_version",
	"PGMAXPROTOCOLVERSION": "max_protocol_version",
	"PGCHANNELBINDING":     "channel_binding", "PGREQUIREAUTH": "require_auth",
}

// withConventions says in an address what the variables around it say and the address does
// not. The driver asks the process for them itself, so only those are added that the process
// has otherwise: none, where the program runs as its own process.
func withConventions(around environment.Surroundings, address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" {
		return address
	}
	query := u.Query()
	add := func(parameter, value string) {
		if value == "" || query.Has(parameter) || saidBefore(u, parameter) {
			return
		}
		query.Set(parameter, value)
	}
	before := len(query)
	for _, name := range slices.Sorted(maps.Keys(conventions)) {
		if value, ok := around.Lookup(name); ok && value != os.Getenv(name) {
			add(conventions[name], value)
		}
	}
	if home := around.Get("HOME"); home != os.Getenv("HOME") && home != "" {
		add("passfile", filepath.Join(home, ".pgpass"))
		add("servicefile", filepath.Join(home, ".pg_service.conf"))
	}
	if len(query) == before {
		return address
	}
	u.RawQuery = query.Encode()
	return u.String()
}

// saidBefore reports whether the part of an address before its query says a parameter.
func saidBefore(u *url.URL, parameter string) bool {
	switch parameter {
	case "host":
		return u.Hostname() != ""
	case "port":
		return u.Port() != ""
	case "dbname":
		return len(u.Path) > 1
	case "user":
		return u.User.Username() != ""
	default:
		return false
	}
}
