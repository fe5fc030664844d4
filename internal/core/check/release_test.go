package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReleases(t *testing.T) {
	for _, c := range []struct {
		source, target, policy string
		want                   Level // "" where there is nothing to say
	}{
		{"8.4.1", "8.4.1", "exact", ""},
		{"8.4.1", "8.4.2", "exact", Blocker},
		{"8.4.1", "8.4.2", "minor", Caution},
		{"8.4.1", "8.5.1", "minor", Blocker},
		{"8.4", "8.4.9", "minor", Caution},
		{"8", "9", "minor", Blocker},
		{"8.4.1", "9.9", "off", ""},
		{"8.4.1", "9.9", "", ""},
		{"", "8.4.1", "exact", Blocker},
		{"8.4.1", "", "minor", Caution},
		{"", "", "exact", Blocker},
	} {
		got, said := Releases("sandbox", "production", c.source, c.target, c.policy)
		assert.Equal(t, c.want != "", said, "%v", c)
		assert.Equal(t, c.want, got.Level, "%v", c)
		if said {
			assert.Equal(t, Release, got.Code)
			assert.NotEmpty(t, got.Mend)
		}
	}
}

func TestAgreement(t *testing.T) {
	text := func(s string) *string { return &s }
	_, said := Agreement("setting/zone", "a", "b", text("x"), text("x"))
	assert.False(t, said)
	for want, values := range map[string][2]*string{
		`setting/zone has to be equal on both sides, but is "x" in a and is "y" in b.`:             {text("x"), text("y")},
		`setting/zone has to be equal on both sides, but is "" in a and is not known in b.`:        {text(""), nil},
		"setting/zone has to be equal on both sides, but is not known in a and is not known in b.": {nil, nil},
	} {
		c, said := Agreement("setting/zone", "a", "b", values[0], values[1])
		assert.True(t, said)
		assert.Equal(t, want, c.Message)
		assert.Equal(t, Blocker, c.Level)
	}
}
