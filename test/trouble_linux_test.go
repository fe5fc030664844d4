package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// smallDisk mounts a disk of so many bytes, where the account may.
func smallDisk(t *testing.T, bytes int) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%d", bytes)); err != nil {
		t.Skipf("no disk can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// fill leaves so many bytes free on a disk, and gives what makes room again.
func fill(t *testing.T, dir string, free int64) func() {
	t.Helper()
	var s syscall.Statfs_t
	require.NoError(t, syscall.Statfs(dir, &s))
	name := filepath.Join(dir, "filler")
	require.NoError(t, os.WriteFile(name, make([]byte, max(0, int64(s.Bavail)*s.Bsize-free)), 0o600))
	return func() { require.NoError(t, os.Remove(name)) }
}

// Where the disk of the docket or of the target is full, nothing is half written; with room
// again it goes on.
func TestTheDiskIsFull(t *testing.T) {
	inGate(t, "small disks")
	t.Parallel()
	const tables = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT);"
	rows := "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) INSERT INTO items SELECT 'C' || i, hex(randomblob(60)) FROM n;"
	for _, which := range []string{"docket", "target"} {
		for _, free := range []int64{150 << 10, 8 << 10, 300 << 10}[:full(1, 3)] {
			t.Run(fmt.Sprint(which, " with ", free>>10, " KiB"), func(t *testing.T) {
				data := &place{t: t, dir: t.TempDir(), user: "mara"}
				data.sql("source", tables+rows)
				data.sql("target", tables+"INSERT INTO items VALUES ('C1','old');")
				disk, p, target := smallDisk(t, 40<<20), &place{t: t, dir: t.TempDir(), user: "mara"}, data.path("target.db")
				if which == "docket" {
					p.dir = disk // the workspace is on the small disk
				} else {
					target = filepath.Join(disk, "target.db")
					require.NoError(t, os.WriteFile(target, data.read("target.db"), 0o600))
				}
				p.write("catalog.yaml", "types:\n  item: {at: items, key: [code]}\n")
				p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:%s\"}\n  target: {connect: \"sqlite:%s\"}\n", data.path("source.db"), target))
				see := func() []string { return p.rowsOf("file:"+target, "SELECT count(*) FROM items") }
				p.must(3, "match", "source", "--against", "target", "--name", "p")
				p.must(0, "approve", "*", "--take", "source")
				room := fill(t, disk, free)
				r := p.run("import")
				if r.code == 0 {
					t.Skip("it was room enough")
				}
				assert.Equal(t, 1, r.code, r.out+r.err)
				assert.NotContains(t, r.err, "panic")
				assert.Regexp(t, "full|no space|disk", strings.ToLower(words(r.err+r.out)))
				assert.Equal(t, []string{"1"}, see())
				room()
				p.must(0, "import")
				assert.Equal(t, []string{"3000"}, see())
				p.must(0, "match", "p", "--against", "target")
			})
		}
	}
}

// The server is stopped in the middle of an import: after it is back the target is as before or
// complete, and the docket tells which.
func TestTheServerIsStoppedInTheMiddle(t *testing.T) {
	inLongRun(t, "a server of its own")
	t.Parallel()
	bin := ""
	for _, found := range globbed("/usr/lib/postgresql/*/bin/initdb") {
		bin = filepath.Dir(found)
	}
	if bin == "" {
		bin = filepath.Dir(tool(t, "initdb"))
	}
	dir, port := shortDir(t), freePort(t)
	init := exec.Command(filepath.Join(bin, "initdb"), "-D", dir+"/one", "-U", "postgres", "-A", "trust", "--no-sync", "-E", "UTF8", "--locale=C.UTF-8")
	asServant(t, init, "postgres", dir)
	out, err := init.CombinedOutput()
	require.NoError(t, err, string(out))
	start := func() *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", dir+"/one", "-p", fmt.Sprint(port), "-k", dir, "-c", "listen_addresses=127.0.0.1")
		asServant(t, cmd, "postgres", dir)
		require.NoError(t, cmd.Start())
		return cmd
	}
	server := start()
	t.Cleanup(func() { _ = server.Process.Signal(syscall.SIGINT); _ = server.Wait() })
	url := fmt.Sprintf("postgres://postgres@127.0.0.1:%d/postgres?sslmode=disable", port)
	db := answers(t, "pgx", url)
	run(t, db, "CREATE TABLE items (id serial PRIMARY KEY, code text UNIQUE, name text)")
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.sql("source", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 4000) INSERT INTO items SELECT i, 'C' || i, 'n' FROM n;")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id}\n")
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: %q}\n", url))
	p.must(0, "export", "source", "--name", "p")
	r := rand.New(rand.NewPCG(14, 9))
	seen := map[string]int{}
	for range full(3, 6) {
		run(t, db, "DELETE FROM items")
		p.must(3, "match", "p", "--against", "target")
		number := docketsIn(p)
		p.must(0, "approve", fmt.Sprint(number), "*", "--take", "source")
		cmd := p.command("import", fmt.Sprint(number))
		var said strings.Builder
		cmd.Stdout, cmd.Stderr = &said, &said
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(50+r.IntN(1700)) * time.Millisecond)
		_ = server.Process.Signal([]syscall.Signal{syscall.SIGQUIT, syscall.SIGINT}[r.IntN(2)]) // at once, or as for a restart
		_ = server.Wait()
		importErr := cmd.Wait()
		server = start()
		require.Eventually(t, func() bool { return db.Ping() == nil }, 60*time.Second, 50*time.Millisecond)
		n := lines(t, db, "SELECT count(*) FROM items")[0]
		require.Contains(t, []string{"0", "4000"}, n, said.String())
		p.run("match", "p", "--against", "target") // settles what nobody knew
		runs := p.json(0, "history", fmt.Sprint(number))["runs"].([]any)
		outcome := "none"
		if len(runs) > 0 {
			outcome = runs[len(runs)-1].(map[string]any)["outcome"].(string)
		}
		assert.Equal(t, n == "4000", outcome == "imported", "%s: %s", outcome, said.String())
		assert.Equal(t, importErr == nil, n == "4000" && !strings.Contains(said.String(), "not known"), said.String())
		seen[outcome]++
		p.must(0, "import", fmt.Sprint(number))
		assert.Equal(t, []string{"4000"}, lines(t, db, "SELECT count(*) FROM items"))
	}
	t.Logf("the server was stopped: %v", seen)
}
