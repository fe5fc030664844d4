package evidence

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// column holds some values, "" for null.
func column(t *testing.T, values ...string) *Column {
	t.Helper()
	table := New([]string{"c"})
	for _, v := range values {
		value := record.NullValue()
		if v != "" {
			var err error
			value, err = record.TextValue(v)
			require.NoError(t, err)
		}
		table.Add([]record.Value{value})
	}
	return table.Columns["c"]
}

func TestWhatIsAmongTheIDs(t *testing.T) {
	ids := column(t, "1", "2", "3", "4", "5", "6", "7", "8")
	far := column(t, "9001", "1204", "77", "500123", "31")
	for _, c := range []struct {
		name   string
		values *Column
		ids    *Column
		held   Held
		chance func(float64) bool
	}{
		{"small numbers in a row are among all ids", column(t, "1", "2", "2", ""), ids, Held{Values: 2, Within: 2, Rows: 3}, func(p float64) bool { return p == 1 }},
		{"scattered ones are no accident", column(t, "77", "9001", "31", "500123"), far, Held{Values: 4, Within: 4, Rows: 4}, func(p float64) bool { return p < 1e-6 }},
		{"one that is none", column(t, "0", "2"), ids, Held{Values: 2, Within: 1, Rows: 2, Missing: []uint64{Number("0")}}, func(p float64) bool { return p > 0.4 }},
		{"texts are no accident", column(t, "a"), column(t, "a", "b"), Held{Values: 1, Within: 1, Rows: 1}, func(p float64) bool { return p == 0 }},
		{"nothing", column(t, ""), ids, Held{}, func(p float64) bool { return p == 0 }},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.held, c.values.Among(c.ids))
			assert.True(t, c.chance(c.values.ByChance(c.ids)), "%v", c.values.ByChance(c.ids))
		})
	}
	assert.InDelta(t, 50, Held{Values: 4, Within: 2}.Share(), 0.01)
	assert.Zero(t, Held{}.Share())
	assert.True(t, ids.Whole())
	assert.False(t, column(t, "x").Whole())
	assert.Equal(t, 2, column(t, "1", "", "2").Filled())
}

func TestNumbersAreEqualForEqualValuesOnly(t *testing.T) {
	for _, text := range []string{"0", "-1", "4711", "9223372036854775807"} {
		assert.NotZero(t, Number(text), text)
	}
	assert.NotEqual(t, Number("1"), Number("01"), "a code is no number")
	assert.NotEqual(t, Number("1"), Number("1.0"))
	n, ok := Whole(Number("-12"))
	assert.True(t, ok)
	assert.Equal(t, int64(-12), n)
	for i := range 2_000 {
		_, ok = Whole(Number(fmt.Sprint("text ", i)))
		assert.False(t, ok, "no text is a whole number")
	}
	_, ok = Whole(0)
	assert.False(t, ok, "null is no number")
}

func TestNear(t *testing.T) {
	assay := Named{Type: "assay", Place: "assays", Singular: "assay", ID: "assay_id"}
	for column, want := range map[string]int{
		"assay_id": 3, "assayid": 3, "fk_assay": 3, "assay": 3, "assays_id": 3, "ASSAY_ID": 3, "default_assay_id": 2, "lead_assay_id": 2, "unit_id": 0, "name": 0, "essay_id": 0,
	} {
		assert.Equal(t, want, Near(column, assay), column)
	}
	assert.Equal(t, 0, Near("", Named{Type: "assay", Place: "assays"}), "nothing is near to nothing")
	tree := Named{Type: "site", Place: "sites", ID: "id", Itself: true}
	assert.Equal(t, 3, Near("parent_id", tree))
	assert.Equal(t, 3, Near("parent_site_id", tree))
	assert.Equal(t, 0, Near("parent_id", assay))
	assert.Equal(t, 2, Near("template_id", Named{Type: "graph_template", Place: "s.graph_templates"}))
	for name, want := range map[string]bool{"unit_id": true, "itemid": true, "id": true, "member_ids": true, "fk_unit": true, "paid": false, "is_valid": false, "grid": false, "code": false} {
		assert.Equal(t, want, IDName(name), name)
	}
}

func TestSuspects(t *testing.T) {
	c, err := catalog.Parse("c", []byte("types:\n  unit: {key: [code], id: id}\n  text: {key: [unit_id, lang], plain: [rank]}\n  link: {key: [code], refers: {unit_id: unit}}\n  other: {key: [owner_id]}\n"))
	require.NoError(t, err)
	number := func(name string) catalog.Column { return catalog.Column{Name: name, Kind: record.Integer} }
	seen := func(typ string, columns map[string]*Column) Seen {
		found, _ := c.Type(typ)
		s := Seen{Type: found, Place: catalog.Place{Name: typ}, Table: &Table{Columns: columns}}
		for _, name := range []string{"id", "unit_id", "rank", "size", "owner_id"} {
			if columns[name] != nil {
				s.Place.Columns = append(s.Place.Columns, number(name))
			}
		}
		s.Columns = Suspicious(s.Type, s.Place)
		return s
	}
	ids := column(t, "9001", "1204", "77", "500123", "31")
	got := Suspects([]Seen{
		seen("unit", map[string]*Column{"id": ids}),
		seen("text", map[string]*Column{"unit_id": column(t, "77", "31", "0"), "rank": column(t, "77", "31", "9001", "1204"), "size": column(t, "31", "77", "9001", "500123")}),
		seen("link", map[string]*Column{"unit_id": ids}),
		seen("other", map[string]*Column{"owner_id": column(t, "5")}),
	})
	assert.Equal(t, []Suspect{
		{Type: "text", Field: "unit_id", To: "unit", Key: true}, {Type: "text", Field: "size", To: "unit"}, {Type: "other", Field: "owner_id", Key: true},
	}, got, "what is declared, or said to be plain, is not suspected; 0 stands for nothing")
}

func TestWaysInWhichIDsStand(t *testing.T) {
	for _, c := range []struct {
		name   string
		kind   record.Kind
		values []string
		ways   []string // form, text and hint
		found  []string // by the first way, in the first value
	}{
		{"a list", record.Text, []string{"17,4711", "3", ""}, []string{"list , members"}, []string{"17", "4711"}},
		{"a list with other separators", record.Text, []string{"17; 4711;", "3"}, []string{"list ; members"}, []string{"17", "4711"}},
		{"one number each is no list", record.Text, []string{"17", "4711"}, nil, nil},
		{"between braces", record.Text, []string{"{17} * 2 + {4711}", "none"}, []string{"pattern {ID} "}, []string{"17", "4711"}},
		{"behind a word", record.Text, []string{"see assay:17", "see assay:4711"}, []string{"pattern assay:ID assay"}, []string{"17"}},
		{"seen once is no habit", record.Text, []string{"{17}", "x"}, nil, nil},
		{"plain sums are none", record.Text, []string{"1 + 2", "3 + 4"}, nil, nil},
		{"JSON", record.JSON, []string{`{"when":[{"assay_id":17},{"assay_id":4711}],"n":1.5,"a-b":{"c d":3}}`, "null"}, []string{"path $.a-b['c d'] c d", "path $.when[*].assay_id assay_id"}, []string{"3"}},
		{"JSON in a text, ids as texts", record.Text, []string{`{"unit_id":"17","name":"5"}`}, []string{"path $.unit_id unit_id"}, []string{"17"}},
		{"no JSON", record.JSON, []string{"{broken"}, nil, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			ways := Ways("members", c.kind, c.values)
			var got []string
			for _, w := range ways {
				got = append(got, w.Form+" "+w.Text+" "+w.Hint)
			}
			assert.Equal(t, c.ways, got)
			if len(ways) > 0 {
				assert.Equal(t, c.found, ways[0].Find(c.values[0]))
			}
		})
	}
}

func TestSuspectsWithinTexts(t *testing.T) {
	c, err := catalog.Parse("c", []byte("types:\n  unit: {key: [code], id: id}\n  rule: {key: [code], title: name, plain: [said]}\n"))
	require.NoError(t, err)
	unit, _ := c.Type("unit")
	rule, _ := c.Type("rule")
	place := catalog.Place{Name: "rules"}
	for _, name := range []string{"code", "name", "formula", "units", "said", "small", "made", "object_type", "object_id"} {
		kind := record.Text
		if name == "object_id" {
			kind = record.Integer
		}
		place.Columns = append(place.Columns, catalog.Column{Name: name, Kind: kind})
	}
	assert.Equal(t, []string{"formula", "units", "small", "made", "object_type"}, SuspiciousTexts(rule, place))
	assert.Equal(t, []string{"object_id"}, Suspicious(rule, place))
	texts := &Table{Columns: map[string]*Column{
		"formula": column(t, "{77} + {9001}", "{31} + {500123}"), "units": column(t, "77,31", "9001"), "small": column(t, "[1]", "[2]"), "made": column(t, "no ids"),
	}}
	got := Suspects([]Seen{
		{Type: unit, Place: catalog.Place{Name: "units"}, Table: &Table{Columns: map[string]*Column{"id": column(t, "9001", "1204", "77", "500123", "31", "1", "2")}}},
		{Type: rule, Place: place, Columns: []string{"object_id"}, Table: &Table{Columns: map[string]*Column{"object_id": column(t, "8", "12345678")}}, Texts: SuspiciousTexts(rule, place), TextsSeen: texts},
	})
	assert.Equal(t, []Suspect{
		{Type: "rule", Field: "object_id"}, {Type: "rule", Field: "formula", To: "unit", Form: "pattern", Text: "{ID}"}, {Type: "rule", Field: "units", To: "unit", Form: "list", Text: ","},
	}, got, "beside what chooses a type, and within texts; small numbers are nobody's")
}

func TestChooses(t *testing.T) {
	for pair, want := range map[[2]string]bool{
		{"object_type", "object_id"}: true, {"model", "res_id"}: true, {"kind", "entity_id"}: true, {"rule_kind", "rule_id"}: true, {"object", "object_id"}: true, {"table_name", "record_id"}: true,
		{"kind", "unit_id"}: false, {"name", "object_id"}: false, {"object_type", "code"}: false,
	} {
		assert.Equal(t, want, Chooses(pair[0], pair[1]), "%v", pair)
	}
	part := (&Table{Rows: 3, Read: 3, Columns: map[string]*Column{"a": column(t, "1", "2", "1"), "b": column(t, "x", "y", "z")}}).Where(func(row int) bool { return row != 1 }, "a")
	assert.Equal(t, 2, part.Read)
	assert.Equal(t, 1, len(part.Columns["a"].Set()))
	assert.Nil(t, part.Columns["b"])
}
