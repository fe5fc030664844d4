package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How a service on the web is reached: each row is what stands in anagram.yaml, and what is said
// of it; nothing is said of what is right.
func TestHowAServiceIsReached(t *testing.T) {
	t.Parallel()
	const at = "connect: \"odata+https://anna@setup.example.org/lab\""
	for _, c := range []struct{ config, says string }{
		{at, ""},
		{at + ", password: {env: X}, web: {token: true, page: 50, at_once: 2, requests_a_second: 2.5, wait: 9, batch: parts}", ""},
		{at + ", password: {env: X}, web: {client: c, token_at: \"https://s.example.org/t\", scope: s}", ""},
		{at + ", web: {certificate: c.pem, certificate_key: k.pem, authority: a.pem, headers: {X-Tenant: t}}", ""},
		{"connect: \"scim+https://people.example.org/v2\", password: {env: X}, web: {header: X-Key}", ""},
		{at + ", web: {token: true}", "there is no password: to sign in with"},
		{at + ", password: {env: X}, web: {token: true, header: X}", "more than one way to sign in"},
		{at + ", password: {env: X}, web: {client: c}", "client: and token_at: go together"},
		{at + ", password: {env: X}, web: {token: true, scope: s}", "scope: goes with client:"},
		{at + ", web: {certificate_key: k}", "certificate_key: goes with certificate:"},
		{at + ", web: {page: -1}", "page: up to 100000"},
		{at + ", web: {at_once: 65}", "at_once: up to 64"},
		{at + ", web: {wait: 3601}", "3600 seconds"},
		{at + ", web: {batch: many}", "batch"},
		{at + ", password: {env: X}, web: {header: \"a b\"}", "no name of a header"},
		{at + ", web: {headers: {\"a b\": c}}", "holds what is no header"},
		{at + ", web: {headers: {cookie: c}}", "Cookie is set by Anagram itself"},
		{at + ", web: {toke: true}", "the key \"toke\" is not known here"},
		{at + ", around_import: {after: [x]}", "runs no statements"},
		{"connect: \"sqlite:a.db\", web: {page: 5}", "web: goes with a service on the web"},
		{"connect: \"odata+https:setup.example.org\"", "it looks like odata+https://account@host/path"},
		{"connect: \"odata+https://a:b@setup.example.org/\"", "a password must not stand in anagram.yaml"},
		{"connect: \"scim+https://setup.example.org/?x=1\"", "has parameters, and takes none"},
		{"connect: \"odata+ftp://setup.example.org/\"", "begins with none of"},
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, ConfigName), []byte("environments:\n  a: {"+c.config+"}\n"), 0o600))
		w, err := Open(dir)
		if c.says == "" {
			if assert.NoError(t, err, c.config) {
				assert.True(t, w.Environments[0].IsWeb())
			}
			continue
		}
		assert.ErrorContains(t, err, c.says, c.config)
	}
}
