//go:build unix

package test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A password is refused in whatever form it stands in an address, and never shown.
func passwordsInAddresses(t *testing.T) {
	t.Parallel()
	for _, connect := range []string{
		"postgres://u:hunter2@h/d", "postgres://u:hunter2@h:x/d%zz", "postgres:host=x password=hunter2", "postgres://u@h/d?sslpassword=hunter2", "postgres://u@h/d?password=hunter2;x",
		"postgres://u@h/d?PassWord=hunter2", "postgres://u@h/d?%70assword=hunter2", "mysql://u%3Ahunter2@h/d", "mysql://hunter2%zz@h/d", "postgres://u@h/d?Hunter2=1", "postgres://u@h/d?options=-chunter2",
		"postgres://u@h/d#hunter2", "mysql://u@127.0.0.1:1/d?tls=hunter2", "postgres:hunter2", "mysql:u:hunter2@tcp(h)/d", "postgres://u@h:hunter2/d", "postgres://u@127.0.0.1:1/d?sslmode=hunter2",
		"Postgres://u:hunter2@h/d", "host=h password=hunter2", "hunter2 x://h", "postgres:////u:hunter2@h/d", "mysql://:hunter2@h/d", "postgres://u:@h/d",
	} {
		p := &place{t: t, dir: t.TempDir(), user: "mara"}
		p.write("anagram.yaml", fmt.Sprintf("environments:\n  a: {connect: %q}\n", connect))
		p.write("catalog.yaml", "types: {}\n")
		for _, args := range [][]string{{"env", "list"}, {"env", "list", "--json"}, {"env", "test"}, {"status"}, {"status", "--verbose"}, {"export", "a"}} {
			r := p.run(args...)
			assert.NotContains(t, r.out+r.err, "hunter2", "%v of %s", args, connect)
			assert.NotContains(t, r.out+r.err, "Hunter2", "%v of %s", args, connect)
		}
		assert.NotEqual(t, 0, p.run("env", "test").code, connect)
	}
}
