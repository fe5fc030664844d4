//go:build unix

package test

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// galera starts a cluster of MariaDB servers and gives their addresses and connections.
func galera(t *testing.T, nodes int) ([]string, []*sql.DB) {
	t.Helper()
	install, server := tool(t, "mariadb-install-db"), tool(t, "mariadbd")
	tool(t, "rsync")
	libraries := append(globbed("/usr/lib/galera/libgalera_smm.so"), globbed("/usr/lib*/galera*/libgalera_smm.so")...)
	if len(libraries) == 0 {
		tool(t, "libgalera_smm.so")
	}
	dir := shortDir(t)
	var urls []string
	var dbs []*sql.DB
	ports := make([]int, nodes)
	group := make([][3]int, nodes)
	for i := range nodes {
		ports[i] = freePort(t)
		for n := range group[i] {
			group[i][n] = freePort(t)
		}
	}
	for i := range nodes {
		data := filepath.Join(dir, fmt.Sprint("n", i))
		// A server that starts removes what looks left over in its folder for temporary tables;
		// in the usual one it would be the tables of the server that the other tests use.
		scratch := filepath.Join(dir, fmt.Sprint("t", i))
		require.NoError(t, os.Mkdir(scratch, 0o700))
		require.NoError(t, os.Chmod(scratch, 0o777))
		cmd := exec.Command(install, "--no-defaults", "--datadir="+data, "--tmpdir="+scratch, "--auth-root-authentication-method=normal", "--skip-test-db")
		asServant(t, cmd, "mysql", dir)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		args := []string{"--no-defaults", "--datadir=" + data, "--tmpdir=" + scratch, "--port=" + fmt.Sprint(ports[i]), "--socket=" + filepath.Join(dir, fmt.Sprint("s", i)), "--bind-address=127.0.0.1", "--pid-file=" + filepath.Join(dir, fmt.Sprint("p", i)),
			"--wsrep-on=ON", "--wsrep-provider=" + libraries[0], "--wsrep-cluster-name=anagram", "--wsrep-node-address=127.0.0.1", "--wsrep-node-name=" + fmt.Sprint("n", i),
			fmt.Sprintf("--wsrep-provider-options=base_host=127.0.0.1;base_port=%d;gmcast.listen_addr=tcp://127.0.0.1:%d;ist.recv_addr=127.0.0.1:%d", group[i][0], group[i][0], group[i][1]),
			fmt.Sprintf("--wsrep-sst-receive-address=127.0.0.1:%d", group[i][2]), "--wsrep-sst-method=rsync",
			"--binlog-format=ROW", "--innodb-autoinc-lock-mode=2", "--default-storage-engine=InnoDB", "--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=32M", "--performance-schema=OFF", "--skip-name-resolve"}
		if i == 0 {
			args = append(args, "--wsrep-new-cluster", "--wsrep-cluster-address=gcomm://")
		} else {
			args = append(args, fmt.Sprintf("--wsrep-cluster-address=gcomm://127.0.0.1:%d", group[0][0]))
		}
		serve(t, "mysql", dir, server, args...)
		db := answers(t, "mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/", ports[i]))
		require.Eventually(t, func() bool {
			var name, state string
			return db.QueryRow("SHOW STATUS LIKE 'wsrep_local_state_comment'").Scan(&name, &state) == nil && state == "Synced"
		}, 60*time.Second, 100*time.Millisecond)
		if i == 0 {
			run(t, db, "CREATE DATABASE lab")
		}
		lab, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/lab", ports[i]))
		require.NoError(t, err)
		t.Cleanup(func() { _ = lab.Close() })
		dbs, urls = append(dbs, lab), append(urls, fmt.Sprintf("mysql://root@127.0.0.1:%d/lab", ports[i]))
	}
	return urls, dbs
}

// Of a cluster any node can be the target. A conflict with another node shows at the commit:
// then nothing was written, and the records are named. What one node wrote, another is read with.
func TestAClusterOfThreeNodes(t *testing.T) {
	inLongRun(t, "a cluster")
	t.Parallel()
	urls, dbs := galera(t, 3)
	run(t, dbs[0], "CREATE TABLE items (id INTEGER AUTO_INCREMENT PRIMARY KEY, code VARCHAR(9) UNIQUE, name VARCHAR(20)) ENGINE=InnoDB", "INSERT INTO items (code, name) VALUES ('A','old'),('B','old'),('C','old')")
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.sql("source", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT); INSERT INTO items VALUES (1,'A','new'),(2,'B','new'),(3,'N','new');")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id}\n")
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  one: {connect: %q}\n  two: {connect: %q}\n  three: {connect: %q}\n", urls[0], urls[1], urls[2]))
	assert.Contains(t, words(p.must(0, "env", "test", "one").out), "(a node of a cluster of 3)")
	p.must(3, "match", "source", "--against", "one", "--name", "p")
	p.must(0, "approve", "*")
	see := func(node int) []string { return lines(t, dbs[node], "SELECT code, name FROM items ORDER BY 1") }
	before := see(0)
	run(t, dbs[0], "CREATE TRIGGER slow BEFORE INSERT ON items FOR EACH ROW SET @a = sleep(3)")
	cmd := p.command("import", "1")
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	time.Sleep(1500 * time.Millisecond) // it has written A and B on its node, and waits
	run(t, dbs[1], "UPDATE items SET name = 'theirs' WHERE code = 'B'")
	require.Error(t, cmd.Wait(), said.String())
	assert.Equal(t, 1, cmd.ProcessState.ExitCode(), said.String())
	assert.Contains(t, words(said.String()), "Nothing was written to one; everything is as it was.")
	assert.Contains(t, words(said.String()), "item/B: it changed in one since it was matched (name was old and is theirs), while the import was at work.")
	before[1] = "B|theirs"
	assert.Equal(t, before, see(2))
	run(t, dbs[0], "DROP TRIGGER slow")
	p.must(3, "match", "p", "--against", "one") // as it says
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	p.must(0, "match", "p", "--against", "three") // another node is read with what this one wrote
	assert.Equal(t, []string{"A|new", "B|new", "C|old", "N|new"}, see(2))
	p.must(3, "restore", fmt.Sprint(docketsIn(p)-1))
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	assert.Equal(t, []string{"A|old", "B|theirs", "C|old"}, see(1))
}
