package catalog

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func saidPlaces() map[string]Place {
	return map[string]Place{
		"items": {Name: "items", Columns: []Column{{Name: "code", Kind: record.Text}, {Name: "off", Kind: record.Boolean, Required: true}, {Name: "gone", Kind: record.Date}, {Name: "word", Kind: record.Text, Limits: Limits{OneOf: []string{"A", "R"}}},
			{Name: "short", Kind: record.Text, Limits: Limits{Characters: 2}}, {Name: "by", Kind: record.Integer}, {Name: "version", Kind: record.Integer}, {Name: "unit_id", Kind: record.Integer}}},
		"staff": {Name: "staff", Columns: []Column{{Name: "id", Kind: record.Integer}, {Name: "login", Kind: record.Text}, {Name: "hidden", Kind: record.Text, Unreadable: true}}},
	}
}

// What a catalog says of a type is held against a place; cautions stand in brackets.
func TestWhatIsSaidOfAType(t *testing.T) {
	for said, want := range map[string]string{
		"":                                   "",
		`retired: {field: off, values: [R]}`: `"R" can never stand in off of items in e, which is true or false; correct values: under retired:`,
		`retired: {field: off, values: ["true"]}`:                    "",
		`retired: {field: word, values: [X]}`:                        "which is one of A, R",
		`retired: {field: word, values: [R]}`:                        "",
		`retired: {field: gone, values: [soon]}`:                     "which holds values of the kind date",
		`retired: {field: gone, when: not null}`:                     "",
		`retired: {field: off, when: "null"}`:                        "is never null, so when: null says nothing",
		`retired: {field: short, values: [LONG]}`:                    "at most 2 characters",
		`retired: {field: none, when: not null}`:                     `retired field "none" is not in items of e`,
		`stamp: {by: by, person: {at: staff, id: id, name: login}}`:  "",
		`stamp: {by: by, person: {at: stuff, id: id, name: login}}`:  `e has nothing called "stuff" for the people in stamps; did you mean "staff"?`,
		`stamp: {by: by, person: {at: staff, id: id, name: logn}}`:   `did you mean "login"?`,
		`stamp: {by: by, person: {at: staff, id: id, name: hidden}}`: "the account may not read hidden of staff in e",
		`plain: [unit_id]`:                                           "",
		`plain: [unit]`:                                              `(field under plain: "unit" is not in items of e; known: by`,
		`secret: [token]`:                                            `(field under secret: "token" is not in items of e`,
		`local: {url: {}}`:                                           `(local field "url" is not in items of e`,
		`files: [sheet]`:                                             `field under files: "sheet" is not in items of e`,
	} {
		c, err := Parse("c", []byte("types:\n  item:\n    at: items\n    key: [code]\n    "+said+"\n"))
		require.NoError(t, err, said)
		var got []string
		for _, p := range c.Fits("e", saidPlaces(), nil).Problems {
			if p.Caution {
				p.Message = "(" + p.Message + ")"
			}
			got = append(got, p.Message)
		}
		text := strings.Join(got, "; ")
		if want == "" {
			assert.Empty(t, text, said)
			continue
		}
		assert.Contains(t, text, want, said)
	}
}

func TestFieldsLeftOutOfEveryType(t *testing.T) {
	c, err := Parse("c", []byte("ignore: [version, name, by, unit_id]\ntypes:\n  item: {at: items, key: [code], stamp: {by: by}, refers: {unit_id: unit}, title: name}\n  unit: {key: [code], id: id}\n"))
	require.NoError(t, err)
	item, _ := c.Type("item")
	assert.Equal(t, []string{"version"}, item.Everywhere, "what a type says of a field goes first")
	assert.True(t, item.Ignores("version"))
	assert.False(t, item.Carried("version"))
	assert.Empty(t, item.BesideOf(Place{Columns: []Column{{Name: "version"}}}, nil), "nothing holds it against an import")
	for _, field := range c.Fits("e", saidPlaces(), nil).Fields["item"] {
		assert.NotEqual(t, "version", field.Name)
	}
	other, err := Parse("c", []byte("types:\n  item: {at: items, key: [code], stamp: {by: by, person: {at: staff, id: id, name: login}}, plain: [n], refers: {unit_id: unit}, title: name}\n  unit: {key: [code], id: id}\n"))
	require.NoError(t, err)
	was, _ := other.Type("item")
	assert.False(t, item.SameAs(was))
	item.Everywhere = nil
	assert.True(t, item.SameAs(was), "what only people see makes no difference")
	for _, bad := range []string{"stamp: {person: {at: a, id: b, name: c}}", "stamp: {by: by, person: {at: a}}"} {
		_, err := Parse("c", []byte("types:\n  item: {key: [code], "+bad+"}\n"))
		assert.ErrorContains(t, err, "person: needs by: beside it")
	}
	_, _, err = c.ParseAddress(record.Shapes{"unit": {{Name: "code", Kind: record.Text}}}, "unit/ug/L")
	assert.ErrorContains(t, err, "did you mean unit/ug%2FL?")
}
