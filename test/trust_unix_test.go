//go:build unix

package test

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A workspace from somebody else sends no password and runs nothing before the person at
// work has looked at it, and again once a part of it changed.
func TestASharedWorkspaceIsTrustedFirst(t *testing.T) {
	t.Parallel()
	stranger, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer stranger.Close()
	reached := make(chan bool, 100)
	go func() {
		for {
			conn, err := stranger.Accept()
			if err != nil {
				return
			}
			reached <- true
			_ = conn.Close()
		}
	}()
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code TEXT); INSERT INTO items VALUES ('A')", "CREATE TABLE items (code TEXT)")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	ran := filepath.Join(p.dir, "ran")
	yaml := func(command string) {
		p.write("anagram.yaml", "environments:\n  source: {connect: \"postgres://u@"+stranger.Addr().String()+"/d\", password: {command: [\"sh\", \"-c\", \""+command+"\"]}}\n  target: {connect: \"sqlite:target.db\"}\n  far: {connect: \"mysql://u@db.example.org/d\"}\n")
	}
	yaml("touch ran; echo hunter2")
	untouched := func() {
		assert.NoFileExists(t, ran)
		assert.Empty(t, reached)
	}
	// What only reads goes on, and reaches nobody.
	for _, args := range [][]string{{"status"}, {"review"}, {"history"}, {"history", "1"}, {"parcel", "list"}, {"parcel", "show", "p"}, {"parcel", "verify", "p"}, {"env", "list"}, {"parcel", "list", "--ask-sources"}, {"parcel", "show", "p", "--ask-sources"}} {
		p.must(0, args...)
		untouched()
	}
	for _, args := range [][]string{{"env", "test"}, {"export", "source"}, {"catalog", "check"}, {"catalog", "draft", "source"}, {"match", "source", "--against", "target"}, {"catalog", "draft", "far"}} {
		r := p.run(args...)
		assert.NotEqual(t, 0, r.code, "%v", args)
		assert.Contains(t, words(r.out+r.err), "with: anagram trust", "%v", args)
		untouched()
	}
	p.must(0, "approve", "*")
	p.must(0, "import") // into files: nothing is at stake
	untouched()

	// Without a terminal it is refused, and the mend is followed literally.
	r := p.must(2, "trust")
	for _, fact := range []string{"source connects to " + stranger.Addr().String() + " as u, database d", "runs the command sh -c 'touch ran; echo hunter2' and sends what it prints as the password", "far connects to db.example.org:3306 as u"} {
		assert.Contains(t, words(r.out), fact)
	}
	_, fingerprint, ok := strings.Cut(words(r.err), "anagram trust --fingerprint ")
	require.True(t, ok)
	p.must(2, "trust", "--fingerprint", strings.Repeat("0", 32))
	untouched()
	p.must(0, "trust", "--fingerprint", fingerprint)
	assert.NotEqual(t, 0, p.run("env", "test", "source").code)
	assert.FileExists(t, ran)
	assert.NotEmpty(t, reached)
	require.NoError(t, os.Remove(ran))
	for quiet := false; !quiet; { // what was begun may end a moment later
		select {
		case <-reached:
		case <-time.After(300 * time.Millisecond):
			quiet = true
		}
	}
	// Somebody else, a part that changed, and the same in another folder are asked again.
	p.user = "jonas"
	p.must(2, "trust")
	p.user = "mara"
	yaml("touch ran; echo hunter3")
	assert.Contains(t, words(p.run("env", "test", "source").out), "or it changed since")
	untouched()
	yaml("touch ran; echo hunter2")
	moved := p.dir + "-moved"
	require.NoError(t, os.CopyFS(moved, os.DirFS(p.dir)))
	defer os.RemoveAll(moved)
	there := *p
	there.dir = moved
	cmd := there.command("env", "test", "source")
	cmd.Env = append(cmd.Env, "XDG_CONFIG_HOME="+p.config())
	out, _ := cmd.CombinedOutput()
	assert.Contains(t, words(string(out)), "anagram trust")
	untouched()
	// What is kept is the person's own.
	info, err := os.Stat(filepath.Join(p.config(), "anagram", "trusted.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	kept, err := os.ReadFile(filepath.Join(p.config(), "anagram", "trusted.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "hunter")
	require.NoError(t, os.WriteFile(filepath.Join(p.config(), "anagram", "trusted.json"), []byte("{"), 0o600))
	assert.Contains(t, words(p.run("env", "test", "source").out), "trusted.json is damaged")
	untouched()
}

// On a terminal the person is asked.
func TestTrustIsAskedForOnATerminal(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code TEXT)", "CREATE TABLE items (code TEXT)")
	p.write("anagram.yaml", "environments:\n  far: {connect: \"postgres://u@db.example.org/d\"}\n")
	for answer, want := range map[string]string{"no\n": "It is not trusted", "y\n": "It is not trusted", "yes\n": "You trust"} {
		cmd := p.command("trust")
		terminal, err := pty.Start(cmd)
		require.NoError(t, err)
		time.Sleep(300 * time.Millisecond)
		_, err = terminal.WriteString(answer)
		require.NoError(t, err)
		out, _ := io.ReadAll(terminal)
		_ = terminal.Close()
		_ = cmd.Wait()
		assert.Contains(t, words(string(out)), want, answer)
		_ = os.RemoveAll(p.config())
	}
	p.write("anagram.yaml", "environments:\n  near: {connect: \"sqlite:source.db\"}\n")
	assert.Contains(t, p.must(0, "trust").out, "needs no word")
}

// A password does not go to another machine over a connection that proves nothing.
func TestPasswordsGoOverProvenConnections(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code TEXT)", "CREATE TABLE items (code TEXT)")
	p.write("secret", "hunter2")
	for connect, want := range map[string]string{
		"postgres://u@192.0.2.1/d?sslmode=require&connect_timeout=1": "Say sslmode=verify-full in connect:",
		"postgres://u@192.0.2.1/d?sslmode=disable&connect_timeout=1": "Say sslmode=verify-full in connect:",
		"postgres://u@192.0.2.1/d?sslmode=prefer&connect_timeout=1":  "Say sslmode=verify-full in connect:",
		"mysql://u@192.0.2.1/d?tls=skip-verify":                      "Say tls=true in connect:",
		"mysql://u@192.0.2.1/d?tls=false":                            "Say tls=true in connect:",
		"mysql://u@192.0.2.1/d?tls=preferred":                        "Say tls=true in connect:",
	} {
		p.write("anagram.yaml", "environments:\n  far: {connect: \""+connect+"\", password: {file: secret}}\n")
		p.trust()
		assert.Contains(t, words(p.run("env", "test").out), want, connect)
	}
	p.write("anagram.yaml", "environments:\n  far: {connect: \"postgres://u@192.0.2.1/d?sslmode=disable&connect_timeout=1\", password: {file: secret}, tls: off}\n")
	p.trust()
	assert.Contains(t, words(p.run("env", "test").out), "192.0.2.1:5432 cannot be reached", "where the workspace says so, it is tried")
	p.write("anagram.yaml", "environments:\n  far: {connect: \"postgres://u@192.0.2.1/d\", password: {file: secret}, tls: on}\n")
	assert.Contains(t, words(p.run("env", "test").err), "tls")
}

// What a workspace demands of approvals, and what it approves by rule, is among what a person
// trusts: whoever loosens it, or puts another key on the list, is noticed.
func TestTrustCoversGuardsRulesAndSigners(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.write("catalog.yaml", "types: {}\n")
	yaml := func(guard, rest string) {
		p.write("anagram.yaml", "environments:\n  far:\n    connect: mysql://u@db.example.org/d\n    guard: {"+guard+"}\n    approvers: {\"*\": [jonas]}\n"+rest)
	}
	const strict = "approvals: 2, approver_differs_from_exporter: true, signed: true, signers: keys"
	const rule = "standing:\n  - {decide: hold, type: item}\n"
	p.write("keys", "# nobody yet\n")
	yaml(strict, rule)
	trusts := func() {
		t.Helper()
		r := p.must(2, "trust")
		_, fingerprint, ok := strings.Cut(words(r.err), "anagram trust --fingerprint ")
		require.True(t, ok)
		p.must(0, "trust", "--fingerprint", fingerprint)
	}
	asks := func(what string) {
		t.Helper()
		r := p.must(2, "trust")
		if what != "" {
			assert.Contains(t, words(r.out), what)
		}
	}
	asks("guards imports: 2 approvals")
	asks("guards imports: who exported or matched does not count as an approver")
	asks("guards imports: approvals are signed by keys of keys (sha256:")
	asks("lets approve *: jonas")
	trusts()
	assert.Contains(t, p.must(0, "trust").out, "trust", "it is trusted")
	for _, change := range []func(){
		func() { yaml("approvals: 1, approver_differs_from_exporter: true, signed: true, signers: keys", rule) },
		func() { yaml("approvals: 2, approver_differs_from_exporter: true", rule) },
		func() { yaml(strict, rule+"  - {decide: approve, status: new}\n") },
		func() { p.write("keys", "# somebody else\n") },
	} {
		change()
		asks("")
		p.write("keys", "# nobody yet\n")
		yaml(strict, rule)
		p.must(0, "trust")
	}
	yaml(strict, rule+"  - {decide: approve, status: new, only: 'holiday/*'}\n")
	asks("decides in dockets: approve by rule only holiday/* status new")
}
