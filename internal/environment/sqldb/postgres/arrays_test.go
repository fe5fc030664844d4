package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func TestArraysAsLists(t *testing.T) {
	for _, c := range []struct {
		element    record.Kind
		text, list string
	}{
		{record.Text, `{}`, `[]`},
		{record.Text, `{a,b,NULL,"NULL",""}`, `["a","b",null,"NULL",""]`},
		{record.Text, `{"a b","a\"b","a\\b","a,b","{a}",é}`, `["a b","a\"b","a\\b","a,b","{a}","é"]`},
		{record.Text, `{{a,b},{c,NULL}}`, `[["a","b"],["c",null]]`},
		{record.Integer, `{1,-2,9223372036854775807}`, `[1,-2,9223372036854775807]`},
		{record.Decimal, `{1.5,NaN,Infinity}`, `[1.5,"NaN","Infinity"]`},
		{record.Boolean, `{t,f,NULL}`, `[true,false,null]`},
		{record.JSON, `{"{\"a\": [1,2]}","[1,2]","null",NULL}`, `[{"a":[1,2]},[1,2],null,null]`},
		{record.Timestamp, `{"2026-01-01 00:00:00+00"}`, `["2026-01-01 00:00:00+00"]`},
	} {
		list, err := listed(c.text, c.element)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.list, list)
		back, err := array(list, c.element)
		require.NoError(t, err)
		again, err := listed(back, c.element)
		require.NoError(t, err)
		assert.Equal(t, list, again, back)
		if c.element == record.Text {
			assert.Equal(t, c.text, back, "as the server writes it")
		}
	}
	for text, wrong := range map[string]string{
		`[2:3]={a,b}`: "another number than 1", `{a`: "no array", `a`: "no array", `{"a}`: "no array", `{a}b`: "no array", `{{{{{{{a}}}}}}}`: "no array", `{"a\`: "no array",
	} {
		_, err := listed(text, record.Text)
		assert.ErrorContains(t, err, wrong, text)
	}
	_, err := listed(`{{1,2}}`, record.JSON)
	assert.ErrorContains(t, err, "several dimensions")
	for text, wrong := range map[string]string{`{"a":1}`: "no list", `"a"`: "no list", `[{"a":1}]`: "itself an object", `["\u0000"]`: "NUL"} {
		_, err := array(text, record.Text)
		assert.ErrorContains(t, err, wrong)
	}
}
