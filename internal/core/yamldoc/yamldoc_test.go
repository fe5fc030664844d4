package yamldoc

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const text = `# a comment
first: one
second:
  b: [x, y]
  a: {deep: value}
"odd key": 3
`

func TestLinesAndNames(t *testing.T) {
	d, err := Parse("file.yaml", []byte(text))
	require.NoError(t, err)
	assert.Equal(t, []string{"first", "second", "odd key"}, d.Names())
	assert.Equal(t, []string{"b", "a"}, d.Names("second"), "in the file's order")
	assert.Nil(t, d.Names("third"))
	assert.Nil(t, d.Names("first"))
	for line, path := range map[int][]string{2: {"first"}, 3: {"second"}, 4: {"second", "b", "1"}, 5: {"second", "a", "deep"}, 6: {"odd key"}} {
		assert.Equal(t, line, d.Line(path...), "%v", path)
	}
	assert.Equal(t, 5, d.Line("second", "a", "none"), "the nearest thing above")
	assert.Equal(t, 0, d.Line("none"))
	assert.EqualError(t, d.Errorf([]string{"second", "a"}, "this is %s", "wrong"), "file.yaml line 5: this is wrong")
	assert.EqualError(t, d.Errorf(nil, "all of it"), "file.yaml: all of it")
}

func TestDecodeNamesTheNearestKey(t *testing.T) {
	type inner struct {
		Colour string `yaml:"colour"`
	}
	var form struct {
		Things map[string]inner `yaml:"things"`
	}
	d, err := Parse("f", []byte("things:\n  a: {colour: red}\n"))
	require.NoError(t, err)
	require.NoError(t, d.Decode(&form))
	assert.Equal(t, "red", form.Things["a"].Colour)
	for source, want := range map[string]string{
		"things:\n  a:\n    color: red\n": `f line 3: the key "color" is not known here; did you mean "colour"?`,
		"thinks: {}\n":                    `f line 1: the key "thinks" is not known here; did you mean "things"?`,
		"zebra: {}\n":                     `f line 1: the key "zebra" is not known here`,
		"things: [1]\n":                   "f line 1",
	} {
		d, err := Parse("f", []byte(source))
		require.NoError(t, err)
		err = d.Decode(&form)
		var mistake *Error
		require.ErrorAs(t, err, &mistake, source)
		assert.Contains(t, err.Error(), want)
	}
	_, err = Parse("f", []byte("a: [1\nb: 2"))
	assert.ErrorContains(t, err, "f line ")
}

func TestNearest(t *testing.T) {
	known := []string{"assay", "assay_range", "panel", "unit"}
	for word, want := range map[string]string{"assai": "assay", "ASSAY": "assay", "panels": "panel", "assay_rang": "assay_range", "xyz": "", "": ""} {
		like := ""
		if want != "" {
			like = `; did you mean "` + want + `"?`
		}
		assert.Equal(t, like, Likest(word, known), word)
		if want == "" {
			like = "; known: assay, assay_range, panel, unit"
		}
		assert.Equal(t, like, Nearest(word, known), word)
	}
	assert.Empty(t, Nearest("x", nil))
	assert.Empty(t, Nearest("x", []string{strings.Repeat("a", 100), strings.Repeat("b", 900)}), "what is too long to be listed is not")
}
