package conformance

import (
	"bufio"
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/tests"
)

// Foreign is an OData v4 server that nobody here wrote, from packages that only tests use.
type Foreign struct {
	Address string
	// ID is the field in which it keeps ids, Text whether these are texts.
	ID   string
	Text bool
}

// ForeignSet is a set of such a server: its fields and their types, which of them are unique,
// and what it holds.
type ForeignSet struct {
	Fields map[string]string `json:"fields"`
	Unique []string          `json:"unique"`
	Rows   []map[string]any  `json:"rows"`
}

// Foreigners are the servers, and what each of them cannot do.
var Foreigners = map[string]string{
	"plain": "has no versions, no batches, no navigation, no values of bytes and no pages of its own, and ends a connection by which more than 1 MB comes",
	"typed": "has no versions and no pages of its own; $top and $skip are left to its application, which takes no notice of them",
}

// StartForeign starts such a server, empty. Where it cannot be started the test is skipped with
// that reason, unless ANAGRAM_TEST_REQUIRE_SERVERS is set.
func StartForeign(t *testing.T, name, scripts string) *Foreign {
	t.Helper()
	skip := func(why string) {
		if os.Getenv(requireVariable) != "" {
			t.Fatal(why)
		}
		t.Skip(why)
	}
	if !tests.Long() {
		t.Skip("left to the long run (make long): servers for node")
	}
	node, err := exec.LookPath("node")
	if err != nil {
		skip("node is not on this machine, so servers written for it cannot be started")
	}
	if _, err := os.Stat(filepath.Join(scripts, "node_modules")); err != nil {
		skip("the servers of test/foreign are not installed: npm ci --prefix test/foreign --ignore-scripts")
	}
	cmd := exec.Command(node, name+".js")
	cmd.Dir = scripts
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	f := &Foreign{Address: "http://127.0.0.1:" + strings.TrimSpace(port), ID: "id"}
	if name == "plain" {
		f.ID, f.Text = "_id", true
	}
	return f
}

// Put makes these its sets, and forgets what it held.
func (f *Foreign) Put(t *testing.T, sets map[string]ForeignSet) {
	t.Helper()
	body, err := json.Marshal(sets)
	require.NoError(t, err)
	request, err := http.NewRequest(http.MethodPut, f.Address+"/all", bytes.NewReader(body))
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, http.StatusOK, answer.StatusCode)
}

// All gives the rows of its sets, numbers as they are written.
func (f *Foreign) All(t *testing.T) map[string][]map[string]any {
	t.Helper()
	answer, err := http.Get(f.Address + "/all")
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	decoder := json.NewDecoder(answer.Body)
	decoder.UseNumber()
	out := map[string][]map[string]any{}
	require.NoError(t, decoder.Decode(&out))
	return out
}
