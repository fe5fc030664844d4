package trust

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTrustIsOfAFolderWithWhatIsInIt(t *testing.T) {
	config := t.TempDir()
	a, b := t.TempDir(), t.TempDir()
	one := Fingerprint([]Part{{"production", []string{"connects to x"}}})
	other := Fingerprint([]Part{{"production", []string{"connects to y"}}})
	assert.NotEqual(t, one, other)
	assert.Len(t, one, 32)
	given := func(dir, fingerprint string) bool {
		ok, err := Given(config, dir, fingerprint)
		require.NoError(t, err)
		return ok
	}
	assert.False(t, given(a, one))
	require.NoError(t, Give(config, a, one, "2026-11-25T10:00:00Z"))
	assert.True(t, given(a, one))
	assert.False(t, given(a, other))
	assert.False(t, given(b, one))
	require.NoError(t, Give(config, b, one, "2026-11-25T10:00:00Z"))
	require.NoError(t, Give(config, a, other, "2026-11-25T11:00:00Z"))
	assert.True(t, given(b, one))
	assert.True(t, given(a, other))
	assert.False(t, given(a, one), "what was trusted before is so no longer")
	file, err := path(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	_, err = Given(config, a, one)
	assert.ErrorContains(t, err, "is damaged")
	assert.Error(t, Give(config, a, one, ""))
	_, err = Given(config, filepath.Join(a, "gone"), one)
	assert.Error(t, err)
	assert.Error(t, Give(config, filepath.Join(a, "gone"), one, ""))
	for _, unknown := range []string{"", "relative"} {
		assert.ErrorContains(t, Give(unknown, b, one, ""), "your configuration folder is not known")
	}
}
