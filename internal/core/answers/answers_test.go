package answers

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnswersComeBackAsTheyWereWritten(t *testing.T) {
	f := File{Docket: 7, Digest: "ab", Person: "jonas", Answers: []Answer{
		{Address: "assay/GLU", Decision: "approve", Take: "source", Note: "a <b> & \"c\"\nd", At: "2026-11-25T08:00:00Z"},
		{Address: "assay/TSH", Field: "price", Decision: "decline", At: "2026-11-25T08:00:01Z"},
		{Address: "assay/TSH", Comment: "Which kit?", At: "2026-11-25T08:00:02Z"},
	}}
	text, err := Append(nil, f)
	require.NoError(t, err)
	again, err := Append(nil, f)
	require.NoError(t, err)
	assert.Equal(t, text, again)
	got, err := Read(text)
	require.NoError(t, err)
	f.Anagram, f.Version = Kind, Version
	assert.Equal(t, f, got)
}

func TestAnswersThatAreNone(t *testing.T) {
	good := `{"anagram":"answers","version":1,"docket":7,"digest":"ab","person":"jonas","answers":[{"address":"a/1","decision":"approve","at":"2026-11-25T08:00:00Z"}]}`
	_, err := Read([]byte(good))
	require.NoError(t, err)
	for _, c := range []struct{ from, to, says string }{
		{good, "", "no file of answers"},
		{good, good + "x", "something follows"},
		{`"answers","version"`, `"others","version"`, "does not say"},
		{`"version":1`, `"version":2`, "version 2"},
		{`"jonas"`, `""`, "whose they are"},
		{`"jonas"`, `"` + strings.Repeat("j", 101) + `"`, "100 characters"},
		{`"jonas"`, `"` + "\xff" + `"`, "UTF-8"},
		{`"docket":7`, `"docket":7,"more":1`, "more"},
		{`"a/1"`, `""`, "answer 1: it names no record"},
		{`"approve"`, `"agree"`, `answer 1: the decision "agree" is not known`},
		{`"approve"`, `""`, "it says nothing"},
		{`"approve"`, `"decline","take":"source"`, "goes with approve"},
		{`"approve"`, `"approve","take":"both"`, "take is source or target"},
		{`2026-11-25T08:00:00Z`, `yesterday`, "the time"},
		{`"approve"`, `"approve","note":"` + strings.Repeat("n", 10_001) + `"`, "10000 characters"},
	} {
		text := strings.Replace(good, c.from, c.to, 1)
		_, err := Read([]byte(text))
		assert.ErrorContains(t, err, c.says, c.to)
	}
	_, err = Read(make([]byte, 65<<20))
	assert.ErrorContains(t, err, "MiB")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"anagram":"answers","version":1,"docket":7,"digest":"ab","person":"jonas","answers":[{"address":"a/1","decision":"approve","at":"2026-11-25T08:00:00Z"}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		file, err := Read(text)
		if err != nil {
			return
		}
		out, err := Append(nil, file)
		require.NoError(t, err)
		again, err := Read(out)
		require.NoError(t, err)
		assert.Equal(t, len(file.Answers), len(again.Answers))
	})
}
