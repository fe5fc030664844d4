package draft

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
)

// facts are a few rows held here: place -> column -> values, "" for null.
type facts map[string]map[string][]string

// sight is an environment with these places and rows; counts are rows that only are said to be
// there.
func sight(t *testing.T, name string, places map[string]catalog.Place, data facts, counts map[string]int) Sight {
	return Sight{Name: name, Places: places, Look: func(place string, columns []string) (*evidence.Table, error) {
		table := evidence.New(columns)
		rows := 0
		for _, values := range data[place] {
			rows = len(values)
		}
		for i := range rows {
			row := make([]record.Value, len(columns))
			for n, column := range columns {
				assert.NotContains(t, column, "secret", "secrets are never looked at")
				row[n] = record.NullValue()
				if values := data[place][column]; values != nil && values[i] != "" {
					v, err := record.TextValue(values[i])
					require.NoError(t, err)
					row[n] = v
				}
			}
			table.Add(row)
		}
		table.Rows = max(rows, counts[place])
		return table, nil
	}}
}

// left gives what was left out, with the reason.
func left(d *Draft) map[string]string {
	out := map[string]string{}
	for _, n := range d.Notes {
		if n.Type == "" {
			out[n.Place] = n.Why
		}
	}
	return out
}

func id(name string) catalog.Column {
	return catalog.Column{Name: name, Kind: record.Integer, Required: true, Default: true, InnerID: true}
}

func text(name string) catalog.Column {
	return catalog.Column{Name: name, Kind: record.Text, Required: true}
}
func number(name string) catalog.Column { return catalog.Column{Name: name, Kind: record.Integer} }

func TestDraftOfSeveralColumnsTriggersAndGrowingTables(t *testing.T) {
	when := catalog.Column{Name: "created_at", Kind: record.Timestamp}
	places := map[string]catalog.Place{
		"wards": {Name: "wards", Primary: []string{"site", "no"}, Columns: []catalog.Column{text("site"), number("no")}},
		"beds": {Name: "beds", Primary: []string{"id"}, Unique: [][]string{{"site", "ward_no", "label"}}, Triggered: []string{"rank"},
			Foreign: []catalog.ForeignKey{{To: "wards", Pairs: []catalog.Pair{{Here: "site", There: "site"}, {Here: "ward_no", There: "no"}}}},
			Columns: []catalog.Column{id("id"), text("site"), number("ward_no"), text("label"), number("rank")}},
		"stays": {Name: "stays", Primary: []string{"id"}, Columns: []catalog.Column{id("id"), when, text("remark")}},
		"codes": {Name: "codes", Primary: []string{"id"}, Unique: [][]string{{"code"}}, Columns: []catalog.Column{id("id"), when, text("code")}},
	}
	many, code := make([]string, 4*growingRows), make([]string, 4*growingRows)
	for i := range many {
		many[i], code[i] = fmt.Sprint(i+1), fmt.Sprint("C", i)
	}
	d, err := Make([]Sight{sight(t, "sandbox", places, facts{"stays": {"id": many, "remark": make([]string, len(many)), "created_at": many}, "codes": {"id": many, "code": code}}, nil)}, Wish{})
	require.NoError(t, err)
	got := string(d.YAML())
	c, err := catalog.Parse("draft", []byte(got))
	require.NoError(t, err, got)
	bed, _ := c.Type("bed")
	assert.Equal(t, []string{"ward", "label"}, bed.Key)
	assert.Equal(t, []catalog.Pair{{Here: "site", There: "site"}, {Here: "ward_no", There: "no"}}, bed.Refers["ward"].Columns)
	assert.Equal(t, []string{"rank"}, bed.Ignore)
	assert.Contains(t, got, "a trigger fills it")
	assert.Regexp(t, "#   stays +2000  no key: nothing but its internal id", got)
	_, kept := c.Type("code")
	assert.True(t, kept, "what has a code is setup however many there are")
}

func TestDraft(t *testing.T) {
	places := map[string]catalog.Place{
		"categories": {Name: "categories", Primary: []string{"id"}, Columns: []catalog.Column{id("id"), number("parent_id"), text("name"), number("lft"), number("rgt")}},
		"products": {Name: "products", Primary: []string{"id"}, Unique: [][]string{{"uuid"}, {"sku_code"}}, Columns: []catalog.Column{id("id"), text("uuid"), text("sku_code"), text("name"), number("category_id"), number("maker"),
			text("api_secret"), text("homepage"), {Name: "photo", Kind: record.Bytes}, {Name: "updated_at", Kind: record.Timestamp}, text("updated_by"), {Name: "created", Kind: record.Timestamp}, {Name: "archived", Kind: record.Boolean}, {Name: "full", Kind: record.Text, Derived: true}}},
		"product_names": {Name: "product_names", Primary: []string{"product", "language"}, Columns: []catalog.Column{{Name: "product", Kind: record.Integer, RefersTo: "products", RefersColumn: "id", Required: true}, text("language"), text("label")}},
		"bins":          {Name: "bins", Primary: []string{"id"}, Columns: []catalog.Column{id("id"), text("colour")}},
		"bin_things":    {Name: "bin_things", Primary: []string{"bin_id", "name"}, Columns: []catalog.Column{{Name: "bin_id", Kind: record.Integer, RefersTo: "bins", Required: true}, text("name")}},
		"audit_log":     {Name: "audit_log", Primary: []string{"id"}, Columns: []catalog.Column{id("id")}},
		"orders":        {Name: "orders", Primary: []string{"id"}, Columns: []catalog.Column{id("id"), text("number")}},
		"seen":          {Name: "seen", ReadOnly: true, Columns: []catalog.Column{text("a")}},
	}
	d, err := Make([]Sight{sight(t, "sandbox", places, facts{
		"categories": {"id": {"1", "2", "3"}, "parent_id": {"", "1", "2"}, "name": {"a", "b", "b"}},
		"products":   {"id": {"1", "2"}, "sku_code": {"s1", "s2"}, "category_id": {"2", "3"}, "homepage": {"https://a.example/x", "http://b.example"}, "name": {"x", "y"}, "updated_by": {"1", "2"}},
		"bins":       {"id": {"1", "2", "3"}, "colour": {"red", "red", "blue"}},
	}, map[string]int{"orders": manyRows + 1})}, Wish{})
	require.NoError(t, err)
	got := string(d.YAML())
	c, err := catalog.Parse("draft", []byte(got))
	require.NoError(t, err, got)
	assert.Equal(t, []string{"bin", "bin_thing", "category", "product", "product_name"}, c.Names())

	category, _ := c.Type("category")
	assert.Equal(t, []string{"parent_id", "name"}, category.Key, "the parent included for a tree")
	assert.Equal(t, map[string]catalog.Reference{"parent_id": {To: []string{"category"}}}, category.Refers)
	assert.Equal(t, []string{"lft", "rgt"}, category.Derived)
	assert.Contains(t, got, "guess: no unique index; unique")
	assert.Contains(t, got, "no foreign key; all of its values are ids of categories")

	product, _ := c.Type("product")
	assert.Equal(t, []string{"sku_code"}, product.Key, "a code before a random value")
	assert.Equal(t, map[string]catalog.Reference{"category_id": {To: []string{"category"}}}, product.Refers)
	assert.Equal(t, []string{"api_secret"}, product.Secret)
	assert.Contains(t, product.Local, "homepage")
	assert.Equal(t, "created", product.CreatedAt)
	assert.Equal(t, "updated_at", product.StampAt)
	assert.Equal(t, "updated_by", product.StampBy)
	assert.Equal(t, []string{"photo"}, product.Files)
	assert.Equal(t, "archived", product.Retired.Field)
	assert.Equal(t, "name", product.Title)

	names, _ := c.Type("product_name")
	assert.Equal(t, "", names.ID)
	assert.Equal(t, []string{"product", "language"}, names.Key)
	assert.Equal(t, "product", names.PartOf)

	assert.Equal(t, map[string]string{
		"audit_log": empty, "seen": "a view, which is only read", "orders": "more than 50000 rows and nothing that shows it is setup",
	}, left(d))
	bin, _ := c.Type("bin")
	assert.Equal(t, []string{"colour"}, bin.Key, "a type without a sure key is drafted with what there is")
	assert.Regexp(t, "#   bins +3  1 of 3 records share their key with another", got)
	again, err := Make([]Sight{sight(t, "x", places, facts{}, nil)}, Wish{With: []string{"orders"}, Without: []string{"bin*"}})
	require.NoError(t, err)
	assert.NotEmpty(t, again.YAML(), "an empty database has a draft as well")
	assert.Equal(t, "left out as asked for", left(again)["bins"])
	assert.NotContains(t, left(again), "orders")
}

func TestSingular(t *testing.T) {
	for plural, want := range map[string]string{"assays": "assay", "categories": "category", "boxes": "box", "classes": "class", "status": "status", "address": "address", "branches": "branch", "news": "new", "ids": "ids", "analysis": "analysis", "shelves": "shelf", "t": "t"} {
		assert.Equal(t, want, Singular(plural))
	}
}

// Ids that nothing but both sides together tell: in a column with another name, in a list, in
// JSON and between braces.
func TestBothSidesTellWhatOneCannot(t *testing.T) {
	places := map[string]catalog.Place{
		"levels": {Name: "levels", Primary: []string{"id"}, Unique: [][]string{{"code"}}, Columns: []catalog.Column{id("id"), text("code")}},
		"things": {Name: "things", Primary: []string{"id"}, Unique: [][]string{{"code"}, {"uuid"}}, Columns: []catalog.Column{id("id"), text("code"), text("uuid"), number("grade"), text("members"), {Name: "rule", Kind: record.JSON}, text("formula"), number("amount")}},
	}
	side := func(name string, level func(int) string, salt string) Sight {
		data := facts{"levels": {}, "things": {}}
		put := func(table, column, value string) { data[table][column] = append(data[table][column], value) }
		for i := range 5 {
			put("levels", "id", level(i))
			put("levels", "code", fmt.Sprint("L", i))
		}
		for i := range 12 {
			put("things", "id", fmt.Sprint(100+i))
			put("things", "code", fmt.Sprint("T", i))
			put("things", "uuid", fmt.Sprintf("%s0000000-0000-4000-8000-00000000000%x", salt, i))
			put("things", "grade", level(i%5))
			put("things", "members", level(i%5)+","+level((i+1)%5))
			put("things", "rule", `{"when":[{"level":`+level(i%5)+`}]}`)
			put("things", "formula", "{"+level(i%5)+"} * 2")
			put("things", "amount", fmt.Sprint(1+i%5))
		}
		return sight(t, name, places, data, nil)
	}
	first := func(i int) string { return fmt.Sprint(1 + i) }
	second := func(i int) string { return fmt.Sprint(5 - i) }
	d, err := Make([]Sight{side("a", first, "a"), side("b", second, "b")}, Wish{})
	require.NoError(t, err)
	c, err := catalog.Parse("draft", d.YAML())
	require.NoError(t, err, string(d.YAML()))
	thing, _ := c.Type("thing")
	assert.Equal(t, []string{"code"}, thing.Key, "a made-up value meets nothing")
	assert.Equal(t, []string{"formula", "grade", "members", "rule"}, thing.ReferenceFields(), "amount is the same on both sides, and a plain number")
	assert.Contains(t, string(d.YAML()), "both sides agree once its numbers are ids of levels")
	alone, err := Make([]Sight{side("a", first, "a")}, Wish{})
	require.NoError(t, err)
	one, err := catalog.Parse("draft", alone.YAML())
	require.NoError(t, err)
	thing, _ = one.Type("thing")
	assert.NotContains(t, thing.ReferenceFields(), "grade", "one side alone does not tell")
}

func TestADraftOfWhatACatalogCannotDescribe(t *testing.T) {
	self := catalog.Column{Name: "next", Kind: record.Integer, RefersTo: "rings", RefersColumn: "id"}
	places := map[string]catalog.Place{
		"rings": {Name: "rings", Primary: []string{"id"}, Unique: [][]string{{"next"}}, Columns: []catalog.Column{id("id"), self}},
		"a":     {Name: "a", Primary: []string{"id"}, Unique: [][]string{{"b_id"}}, Columns: []catalog.Column{id("id"), {Name: "b_id", Kind: record.Integer, RefersTo: "b", RefersColumn: "id"}}},
		"b":     {Name: "b", Primary: []string{"id"}, Unique: [][]string{{"a_id"}}, Columns: []catalog.Column{id("id"), {Name: "a_id", Kind: record.Integer, RefersTo: "a", RefersColumn: "id"}}},
		"odd\n": {Name: "odd\n", Primary: []string{"code"}, Columns: []catalog.Column{text("code"), text("x\n# y")}},
		"ok":    {Name: "ok", Primary: []string{"code"}, Columns: []catalog.Column{text("code")}},
	}
	d, err := Make([]Sight{sight(t, "x", places, facts{}, nil)}, Wish{})
	require.NoError(t, err, "no schema keeps the rest from being drafted")
	c, err := catalog.Parse("draft", d.YAML())
	require.NoError(t, err, string(d.YAML()))
	_, ok := c.Type("ok")
	assert.True(t, ok)
	assert.Contains(t, left(d), "rings")
}
