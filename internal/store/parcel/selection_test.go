package parcel

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSinceWhenChangesAreWanted(t *testing.T) {
	assert.False(t, Selection{}.Dated())
	one := Selection{Since: "2026-01-01"}
	assert.True(t, one.Dated())
	assert.Equal(t, "2026-01-01", one.Moment("unit"))
	each := Selection{Since: "2026-01-01", SinceBy: map[string]string{"unit": "2026-02-01"}}
	assert.True(t, each.Dated())
	assert.Equal(t, []string{"2026-02-01", ""}, []string{each.Moment("unit"), each.Moment("assay")})
	assert.Contains(t, (&ExistsError{Path: filepath.Join("a", "b")}).Error(), "already exists")
}
