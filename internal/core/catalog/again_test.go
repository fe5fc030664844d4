package catalog

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestACatalogThatIsReadAgain(t *testing.T) {
	text := func(n int) []byte { return fmt.Appendf(nil, "types:\n  item: {at: items_%d, key: [code]}\n", n) }
	first, err := Again("first", text(0))
	require.NoError(t, err)
	same, err := Again("second", text(0))
	require.NoError(t, err)
	assert.Same(t, first, same)
	for n := range 3 * mostKept {
		c, err := Again("more", text(n))
		require.NoError(t, err)
		item, _ := c.Type("item")
		assert.Equal(t, fmt.Sprintf("items_%d", n), item.Place("production"))
	}
	assert.LessOrEqual(t, len(kept.list), mostKept)
	_, err = Again("broken.yaml", []byte("types: [\n"))
	assert.ErrorContains(t, err, "broken.yaml")
	source := text(0)
	c, err := Again("mine", source)
	require.NoError(t, err)
	source[0] = 'x'
	assert.Equal(t, text(0), c.Source, "the reader's own text stays the reader's")
}
