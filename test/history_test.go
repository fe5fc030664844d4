package test

import (
	"os"
	"os/user"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Beside the name that was given stands who was at work on the machine, for decisions and
// for imports, and the name alone may be chosen.
func TestWhoWasAtWork(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	account, err := user.Current()
	require.NoError(t, err)
	host, err := os.Hostname()
	require.NoError(t, err)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.user = "ida"
	p.must(0, "approve", "*")
	p.user = account.Username
	p.must(0, "import", "--rehearse")
	history := words(p.must(0, "history", "1").out)
	assert.Contains(t, history, "ida was at work as account "+account.Username+" on "+host+", under a name that was given.")
	assert.Contains(t, history, account.Username+" was at work as account "+account.Username+" on "+host+".")
	people := p.json(0, "history", "1")["people"].([]any)
	assert.Equal(t, []any{
		map[string]any{"name": "ida", "account": account.Username, "host": host, "named": true},
		map[string]any{"name": account.Username, "account": account.Username, "host": host},
	}, people)
	// It is part of the chain: whoever alters it is found out.
	p.docket(1, "UPDATE links SET content = replace(content, '\"named\":true', '\"named\":false')")
	p.must(1, "review")
}
