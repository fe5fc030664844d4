package test

import (
	"os"
	"os/exec"
	"testing"
)

// tool finds a program of somebody else's that a test needs; without it the test is skipped,
// but not where that is forbidden.
func tool(t *testing.T, names ...string) string {
	t.Helper()
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
		t.Fatalf("%s is not there", names[0])
	}
	t.Skipf("%s is not there", names[0])
	return ""
}
