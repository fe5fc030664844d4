//go:build unix

package test

import (
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// On a terminal init asks for the two addresses; an empty answer leads to the examples.
func TestInitAsksOnATerminal(t *testing.T) {
	t.Parallel()
	p := demoPlace(t)
	answer := func(dir string, answers ...string) string {
		cmd := p.command("init", dir)
		tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 30, Cols: 100})
		require.NoError(t, err)
		defer tty.Close()
		var out strings.Builder
		seen := make(chan string, 100)
		go func() {
			defer close(seen)
			buffer := make([]byte, 4096)
			for {
				n, err := tty.Read(buffer)
				if n > 0 {
					seen <- string(buffer[:n])
				}
				if err != nil {
					return
				}
			}
		}()
		for _, line := range append(answers, "") {
			for line != "" && !strings.HasSuffix(strings.TrimRight(out.String(), " "), ":") {
				select {
				case text, ok := <-seen:
					require.True(t, ok, out.String())
					out.WriteString(text)
				case <-time.After(20 * time.Second):
					require.Fail(t, "nothing was asked", out.String())
				}
			}
			if line != "" {
				_, err := tty.WriteString(strings.TrimSpace(line) + "\n")
				require.NoError(t, err)
				out.WriteString("\n")
			}
		}
		for text := range seen {
			out.WriteString(text)
		}
		_ = cmd.Wait()
		return out.String()
	}
	said := answer("asked", "sandbox=sqlite:data/sandbox.db", "production=sqlite:data/production.db")
	assert.Contains(t, said, "Address of the source")
	assert.Contains(t, said, "Address of the target")
	assert.Contains(t, words(said), "Drafted 19 record types")
	assert.FileExists(t, p.path("asked/catalog.yaml"))
	said = answer("examples", " ")
	assert.NotContains(t, said, "Address of the target")
	assert.Contains(t, words(said), "describe your environments in anagram.yaml")
}
