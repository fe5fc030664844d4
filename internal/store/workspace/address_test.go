package workspace

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAddressesOfServers(t *testing.T) {
	for _, good := range []string{"sqlite:a?b=c", "folder:x", "postgres://u@h:5432/d?sslmode=verify-full&connect_timeout=3", "postgres://u@h/d?passfile=x", "postgres://?service=x", "mysql://u@h/d?tls=true"} {
		assert.Empty(t, wrongAddress(Environment{Connect: good}), good)
	}
	for bad, why := range map[string]string{
		"postgres://u:p@h/d": "a password must not stand", "mysql://u%3Ap@h/d": "a password must not stand", "postgres://u@h/d?sslpassword=x": "a password must not stand", "postgres://u@h/d?my_secret=x": "a password must not stand",
		"postgres:host=h": "is not an address", "mysql://u@h:x/d": "is not an address", "postgres://u@h/d#x": "is not an address", "mysql:///d": "is not an address",
		"postgres://u@h/d?a=%zz": "cannot be read", "postgres://u@h/d?options=x": "the parameter options", "postgres://u@h/d?O%20x=1": "a parameter that is not known", "mysql://u@h/d?tls=odd": "none of true, false",
	} {
		assert.Contains(t, wrongAddress(Environment{Connect: bad}), why, bad)
	}
	assert.True(t, Environment{Connect: "mysql://h/d"}.IsServer())
	assert.False(t, Environment{Connect: "folder:x"}.IsServer())
	assert.False(t, Password{}.Given())
	assert.True(t, Password{Command: []string{"x"}}.Given())
}
