package weave

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// found shows where ids were found: each in guillemets, with the type before it.
func found(t *testing.T, value string, forms ...Form) string {
	spans, err := Find(forms, value)
	if err != nil {
		return err.Error()
	}
	out, at := "", 0
	for _, s := range spans {
		out += value[at:s.Start] + "«" + forms[s.Form].To + " " + value[s.Start:s.End] + "»"
		at = s.End
	}
	return out + value[at:]
}

func form(t *testing.T, f Form, err error) Form {
	t.Helper()
	require.NoError(t, err)
	return f
}

func TestIDsAreFoundWhereTheFormSays(t *testing.T) {
	list := func(sep string) Form { f, err := List("assay", sep); return form(t, f, err) }
	pattern := func(to, p string) Form { f, err := Pattern(to, p); return form(t, f, err) }
	path := func(p string) Form { f, err := Path("assay", p); return form(t, f, err) }
	for _, c := range []struct {
		name, value, want string
		forms             []Form
	}{
		{"a list", "12,7, 44", "«assay 12»,«assay 7», «assay 44»", []Form{list(",")}},
		{"a list with gaps", ",12,,", ",«assay 12»,,", []Form{list(",")}},
		{"an empty list", "", "", []Form{list(",")}},
		{"a list of keys in words", "a1;b2", "«assay a1»;«assay b2»", []Form{list(";")}},
		{"a formula", "{12} / {7} * 100", "{«assay 12»} / {«assay 7»} * 100", []Form{pattern("assay", "{ID}")}},
		{"what is no id stays", "{name} {12}", "{name} {«assay 12»}", []Form{pattern("assay", "{ID}")}},
		{"a word before", "see #12 and #7.", "see #«assay 12» and #«assay 7».", []Form{pattern("assay", "#ID")}},
		{"two types", "A12+P7", "A«assay 12»+P«panel 7»", []Form{pattern("assay", "AID"), pattern("panel", "PID")}},
		{"parts of longer ids", "A-12 BA-12 A-12-3 A-12.5 A-12x A-1.", "A-«assay 12» BA-12 A-12-3 A-12.5 A-12x A-«assay 1».", []Form{pattern("assay", "A-ID")}},
		{"a UUID that begins with digits", "A-12345678-6a6e-4f9c-8f57-1f2e3d4c5b6a", "A-«assay 12345678-6a6e-4f9c-8f57-1f2e3d4c5b6a»", []Form{pattern("assay", "A-ID")}},
		{"a UUID", "{0b8e1a44-6a6e-4f9c-8f57-1f2e3d4c5b6a}", "{«assay 0b8e1a44-6a6e-4f9c-8f57-1f2e3d4c5b6a»}", []Form{pattern("assay", "{ID}")}},
		{"two forms for one place", "{12}", `"12" is an id for two of its forms, pattern {ID} and pattern {ID}; make them different in the catalog`,
			[]Form{pattern("assay", "{ID}"), pattern("panel", "{ID}")}},
		{"a path", `{"a":[{"id":12,"n":3},{"id":"7"}],"id":9}`, `{"a":[{"id":«assay 12»,"n":3},{"id":"«assay 7»"}],"id":9}`, []Form{path("$.a[*].id")}},
		{"a position", `{"a":[1,2,3]}`, `{"a":[1,«assay 2»,3]}`, []Form{path("$.a[1]")}},
		{"the document itself", `12`, `«assay 12»`, []Form{path("$")}},
		{"an odd name", `{"a \"b":{"é":5}}`, `{"a \"b":{"é":«assay 5»}}`, []Form{path(`$['a "b'].é`)}},
		{"every member", `{"x":1,"y":2}`, `{"x":«assay 1»,"y":«assay 2»}`, []Form{path("$.*")}},
		{"null and true are no ids", `{"a":[null,true,-1]}`, `{"a":[null,true,-1]}`, []Form{path("$.a[*]")}},
		{"nothing at the path", `{"b":{}}`, `{"b":{}}`, []Form{path("$.a.c")}},
		{"an array where an id is expected", `{"a":[1]}`, "it holds an object or an array where path $.a expects an id; correct the path in the catalog ([*] stands for all items)", []Form{path("$.a")}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, found(t, c.value, c.forms...)) })
	}
}

func TestFormsThatCannotBeRead(t *testing.T) {
	_, err := List("assay", "")
	assert.ErrorContains(t, err, "between two ids")
	_, err = Pattern("assay", "{}")
	assert.ErrorContains(t, err, "has to hold ID once")
	_, err = Pattern("assay", "ID")
	assert.ErrorContains(t, err, "something before it")
	_, err = Path("assay", "$.a[")
	assert.ErrorContains(t, err, `cannot be read from "[" on`)
}
