//go:build unix

package test

import (
	"bytes"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A password is refused in whatever form it stands in an address, and never shown.
func TestPasswordsInAddressesAreRefused(t *testing.T) {
	t.Parallel()
	for i, connect := range []string{
		"postgres://u:hunter2@h/d", "postgres://u:hunter2@h:x/d%zz", "postgres:host=x password=hunter2", "postgres://u@h/d?sslpassword=hunter2", "postgres://u@h/d?password=hunter2;x",
		"postgres://u@h/d?PassWord=hunter2", "postgres://u@h/d?%70assword=hunter2", "mysql://u%3Ahunter2@h/d", "mysql://hunter2%zz@h/d", "postgres://u@h/d?Hunter2=1", "postgres://u@h/d?options=-chunter2",
		"postgres://u@h/d#hunter2", "mysql://u@127.0.0.1:1/d?tls=hunter2", "postgres:hunter2", "mysql:u:hunter2@tcp(h)/d", "postgres://u@h:hunter2/d", "postgres://u@127.0.0.1:1/d?sslmode=hunter2",
		"Postgres://u:hunter2@h/d", "host=h password=hunter2", "hunter2 x://h", "postgres:////u:hunter2@h/d", "mysql://:hunter2@h/d", "postgres://u:@h/d",
	} {
		p := &place{t: t, dir: t.TempDir(), user: "mara"}
		p.write("anagram.yaml", fmt.Sprintf("environments:\n  a: {connect: %q}\n", connect))
		p.write("catalog.yaml", "types: {}\n")
		if skips(i) {
			continue
		}
		for _, args := range [][]string{{"env", "list"}, {"env", "list", "--json"}, {"env", "test"}, {"status"}, {"status", "--verbose"}, {"export", "a"}} {
			r := p.run(args...)
			assert.NotContains(t, r.out+r.err, "hunter2", "%v of %s", args, connect)
			assert.NotContains(t, r.out+r.err, "Hunter2", "%v of %s", args, connect)
		}
		assert.NotEqual(t, 0, p.run("env", "test").code, connect)
	}
}

// listener takes connections and does with each what do says.
func listener(t *testing.T, do func(net.Conn)) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				// Held until do is through: a connection that nobody holds is closed when
				// memory is cleaned up, and the other side sees a reset.
				defer func() { _ = c.Close() }()
				do(c)
			}()
		}
	}()
	return l.Addr().String()
}

// What answers at an address may be no database server at all: it is named, and not waited
// for without end.
func TestServersThatAreNone(t *testing.T) {
	t.Parallel()
	inGate(t, "connections that are none")
	silent := listener(t, func(c net.Conn) { _, _ = c.Read(make([]byte, 1)); time.Sleep(time.Minute) })
	flood := listener(t, func(c net.Conn) {
		for {
			if _, err := c.Write(bytes.Repeat([]byte("A"), 1<<16)); err != nil {
				return
			}
		}
	})
	large := listener(t, func(c net.Conn) { _, _ = c.Write([]byte{'N', 'E', 0x7f, 0xff, 0xff, 0xff}); time.Sleep(time.Minute) })
	for connect, says := range map[string]string{
		"postgres://u@" + silent + "/d":                   silent + " does not answer.",
		"postgres://u@" + silent + "/d?connect_timeout=1": silent + " does not answer.",
		"mysql://u@" + silent + "/d":                      silent + " does not answer.",
		"postgres://u@" + flood + "/d":                    flood + " cannot be reached",
		"mysql://u@" + flood + "/d":                       flood + " answers as no MariaDB or MySQL server does.",
		"postgres://u@" + large + "/d?connect_timeout=2":  large,
		"mysql://u@" + large + "/d":                       large,
	} {
		t.Run("", func(t *testing.T) {
			t.Parallel()
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			p.hurry = 10
			p.write("anagram.yaml", fmt.Sprintf("environments:\n  a: {connect: %q}\n", connect))
			p.write("catalog.yaml", "types: {}\n")
			began := time.Now()
			r := p.run("env", "test", "a")
			assert.NotEqual(t, 0, r.code)
			assert.Contains(t, strings.Join(strings.Fields(r.out+r.err), " "), says, connect)
			assert.Less(t, time.Since(began), 40*time.Second, connect)
		})
	}
}
