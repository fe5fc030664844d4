package workspace

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"anagram/internal/core/pattern"
)

// Addresses of servers. What stands in one is never shown before it was taken apart: it may
// hold a password, where somebody put it.

// serverForms say how an address looks and which parameters it may have.
var serverForms = map[string]struct {
	looks      string
	parameters []string
}{
	"postgres": {"postgres://account@host:5432/database", []string{
		"sslmode", "sslrootcert", "sslcert", "sslkey", "sslsni", "sslnegotiation", "channel_binding", "connect_timeout",
		"application_name", "target_session_attrs",
		"search_path", "krbsrvname", "krbspn", "service", "servicefile", "passfile", "min_protocol_version", "max_protocol_version"}},
	"mysql":       {"mysql://account@host:3306/database", []string{"tls"}},
	"odata+https": {"odata+https://account@host/path", nil},
	"odata+http":  {"odata+http://account@host/path", nil},
	"scim+https":  {"scim+https://account@host/path", nil},
	"scim+http":   {"scim+http://account@host/path", nil},
}

// closed are the parameters that take certain words only.
var closed = map[string][]string{
	"sslmode": {"disable", "allow", "prefer", "require", "verify-ca", "verify-full"},
	"tls":     {"true", "false", "skip-verify", "preferred"},
}

var plainWord = pattern.Of(`^[a-z_]{1,40}$`)

// wrongAddress says what is wrong with an address, "" where nothing is.
func wrongAddress(e Environment) string {
	form, server := serverForms[e.Scheme()]
	if !server {
		return ""
	}
	const elsewhere = "a password must not stand in " + ConfigName +
		"; take it out and say where it is with password: {env: NAME}, {file: PATH}, {command: [...]} or {keystore: true}"
	u, err := url.Parse(e.Connect)
	if err != nil || u.Opaque != "" || u.Host == "" && u.RawQuery == "" || u.Fragment != "" ||
		!strings.HasPrefix(e.Connect, e.Scheme()+"://") {
		return "connect: is not an address; it looks like " + form.looks +
			", with signs such as @ : / % in a name percent-encoded, and never holds a password"
	}
	if _, has := u.User.Password(); has || strings.Contains(u.User.Username(), ":") {
		return elsewhere
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return "connect: has parameters that cannot be read; it looks like " + form.looks
	}
	for name, values := range query {
		words := closed[name]
		switch {
		case words != nil && slices.ContainsFunc(values, func(v string) bool { return !slices.Contains(words, v) }):
			return fmt.Sprintf("connect: says something of %s that is none of %s", name, strings.Join(words, ", "))
		case strings.Contains(strings.ToLower(name), "pass") && name != "passfile", strings.Contains(strings.ToLower(name), "pwd"),
			strings.Contains(strings.ToLower(name), "secret"):
			return elsewhere
		case len(form.parameters) == 0:
			return "connect: has parameters, and takes none; it looks like " + form.looks
		case !slices.Contains(form.parameters, name) && plainWord.MatchString(name):
			return fmt.Sprintf("connect: has the parameter %s, which is not known; those that are: %s", name,
				strings.Join(form.parameters, ", "))
		case !slices.Contains(form.parameters, name):
			return "connect: has a parameter that is not known; those that are: " + strings.Join(form.parameters, ", ")
		}
	}
	return ""
}
