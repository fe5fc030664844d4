package show

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOnlyWhatDiffersOfLongTexts(t *testing.T) {
	long := strings.Repeat("the same words ", 10)
	for _, c := range []struct{ a, b, wantA, wantB string }{
		{"short", "texts", "short", "texts"},
		{long + "one end", long + "other end", "… words the same words >>one<< end", "… words the same words >>other<< end"},
		{"one " + long, long, ">>one the<< same words the same …", ">>the<< same words the same …"},
		{long + "5.1 mmol/L " + long, long + "6.2 mmol/L " + long, "… words the same words >>5.1<< mmol/L the same words …", "… words the same words >>6.2<< mmol/L the same words …"},
		{long + "cafe " + long, long + "cafe\u0301 " + long, "… words the same words >>cafe<< the same words the …", "… words the same words >>cafe\u0301<< the same words the …"},
		{strings.Repeat("x", 60) + "a", strings.Repeat("x", 60) + "b", "…" + strings.Repeat("x", 24) + ">>" + strings.Repeat("x", 24) + "a<<", "…" + strings.Repeat("x", 24) + ">>" + strings.Repeat("x", 24) + "b<<"},
	} {
		got := Differing([]*string{&c.a, &c.b, nil}, 40)
		assert.Nil(t, got[2])
		assert.Equal(t, []string{c.wantA, c.wantB}, []string{*got[0], *got[1]})
	}
}

func TestOnlyWhatDiffersOfJSON(t *testing.T) {
	a, b, agreed := `{"limits":{"low":1,"high":5.10},"when":["a","b"],"on":true}`, `{"on":true,"when":["a","c","d"],"limits":{"high":5.1,"low":1},"extra":null}`, `{"limits":{"low":1,"high":5.1},"when":["a","b"],"on":false}`
	places, ok := JSONPlaces([]*string{&a, &b, &agreed})
	assert.True(t, ok)
	var got []string
	for _, p := range places {
		line := p.Path
		for _, v := range p.Values {
			if v == nil {
				line += " -"
			} else {
				line += " " + *v
			}
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{"extra - null -", "limits.high 5.10 5.1 5.1", "on true true false", `when[2] "b" "c" "b"`, `when[3] - "d" -`}, got)
	broken := "{"
	_, ok = JSONPlaces([]*string{&a, &broken})
	assert.False(t, ok)
	_, ok = JSONPlaces([]*string{&a, nil})
	assert.False(t, ok)
	places, ok = JSONPlaces([]*string{&a, &a})
	assert.True(t, ok)
	assert.Empty(t, places)
}
