package record

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAddressParts(t *testing.T) {
	for given, want := range map[string]string{
		"GLU": "GLU", "a/b": "a%2Fb", "50%": "50%25", "*": "%2A", "a?": "a%3F", "~": "%7E", "a~": "a~", " a ": "%20a%20", "a b": "a b",
		"tab\there": "tab%09here", "": "", "é": "é", "\u2028": "%E2%80%A8", "a\u00a0": "a%C2%A0",
	} {
		v, err := TextValue(given)
		require.NoError(t, err)
		assert.Equal(t, want, EncodePart(v), "%q", given)
		if given != "~" {
			back, err := DecodePart(want)
			assert.NoError(t, err)
			assert.Equal(t, given, back)
		}
	}
	assert.Equal(t, "~", EncodePart(NullValue()))
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern string
		yes, no string // addresses, separated by blanks
	}{
		{"*", "a a/b a/b/c", ""},
		{"assay/GLU", "assay/GLU", "assay assay/GLU2 assay/GLU/1 panel/GLU"},
		{"assay/*", "assay/GLU assay/~ assay/a/b assay/", "assay panel/GLU"},
		{"assay/G*", "assay/GLU assay/G", "assay/LG assay/GLU/1 assay/~"},
		{"assay/*U", "assay/GLU assay/U", "assay/UG"},
		{"assay/a*b*c", "assay/abc assay/axxbyyc", "assay/acb assay/abcd"},
		{"*/GLU", "assay/GLU panel/GLU", "assay/GLU/1"},
		{"panel_item/BMP/*", "panel_item/BMP/GLU panel_item/BMP/a/b", "panel_item/BMP panel_item/CMP/GLU"},
		{"line/*/GLU/*", "line/STD/GLU/2026", "line/STD/NA/2026 line/STD/GLU"},
		{"t/~", "t/~", "t/%7E t/a"},
		{"t/%7E", "t/%7E", "t/~"},
		{"t/a%2Fb", "t/a%2Fb", "t/a/b"},
		{"t/e\u0301", "t/é", "t/e"},
	} {
		p, err := ParsePattern(c.pattern)
		require.NoError(t, err, c.pattern)
		for _, address := range strings.Fields(c.yes) {
			assert.True(t, p.Match(address), "%s fits %s", c.pattern, address)
		}
		for _, address := range strings.Fields(c.no) {
			assert.False(t, p.Match(address), "%s does not fit %s", c.pattern, address)
		}
	}
	for bad, why := range map[string]string{"": "empty", "a/?": "question mark", "a/%2": "percent code", "a/%zz": "percent code", "a/%FF": "UTF-8"} {
		_, err := ParsePattern(bad)
		assert.ErrorContains(t, err, why, "%q", bad)
	}
	whole, _ := ParsePattern("assay/*")
	assert.True(t, whole.WholeType("assay"))
	assert.False(t, whole.WholeType("panel"))
	assert.False(t, whole.Exact())
	one, _ := ParsePattern("assay/GLU")
	assert.True(t, one.Exact())
}

func FuzzPattern(f *testing.F) {
	for _, seed := range []string{"*", "a/*", "a/b*c/~", "a/%2F", "é/*", "a//", "%", "~", "~~", "%7E", "a\x00b", "assay_range/GLU/%2A", "*/*"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		part := encodePart(text)
		back, err := DecodePart(part)
		if utf8.ValidString(text) { // texts of records always are
			require.NoError(t, err, "%q", text)
			require.Equal(t, text, back, "what was written reads back")
			require.NotContains(t, part, "/")
			p, err := ParsePattern("a/" + part)
			require.NoError(t, err)
			require.True(t, p.Exact() && p.Match("a/"+part), "an address is a pattern of itself: %q", part)
		}
		p, err := ParsePattern(text)
		if err == nil && p.Exact() {
			require.True(t, p.Match(text), text)
		}
	})
}
