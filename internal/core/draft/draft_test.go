package draft

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// facts answers questions from a few rows held here: place -> column -> values.
type facts struct {
	t    *testing.T
	data map[string]map[string][]string
	many map[string]bool
}

func (f facts) rows(place string) int {
	for _, values := range f.data[place] {
		return len(values)
	}
	return 0
}

func (f facts) Rows(place string) (int, bool, error) { return f.rows(place), f.many[place], nil }

func (f facts) Sample(place, column string) ([]string, error) {
	assert.NotContains(f.t, column, "secret", "secrets are never looked at")
	return f.data[place][column], nil
}

func (f facts) Distinct(place string, columns, nullable []string) (int, error) {
	seen := map[string]bool{}
rows:
	for i := range f.rows(place) {
		var parts []string
		for _, column := range columns {
			value := f.data[place][column][i]
			if value == "" && !slices.Contains(nullable, column) {
				continue rows
			}
			parts = append(parts, value)
		}
		seen[strings.Join(parts, "|")] = true
	}
	return len(seen), nil
}

func (f facts) Resolves(place, column, to, toColumn string) (bool, error) {
	for _, v := range f.data[place][column] {
		found := v == ""
		for _, w := range f.data[to][toColumn] {
			found = found || v == w
		}
		if !found {
			return false, nil
		}
	}
	return true, nil
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
	many := make([]string, growingRows)
	d, err := Make(places, facts{t: t, data: map[string]map[string][]string{"stays": {"id": many}, "codes": {"id": many}}})
	require.NoError(t, err)
	got := string(d.YAML("sandbox"))
	c, err := catalog.Parse("draft", []byte(got))
	require.NoError(t, err, got)
	bed, _ := c.Type("bed")
	assert.Equal(t, []string{"ward", "label"}, bed.Key)
	assert.Equal(t, []catalog.Pair{{Here: "site", There: "site"}, {Here: "ward_no", There: "no"}}, bed.Refers["ward"].Columns)
	assert.Equal(t, []string{"rank"}, bed.Ignore)
	assert.Contains(t, got, "a trigger fills it")
	assert.Contains(t, got, "stays: 2000 rows, each stamped when it was made, and nothing unique but its internal id")
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
	d, err := Make(places, facts{t: t, many: map[string]bool{"orders": true}, data: map[string]map[string][]string{
		"categories": {"id": {"1", "2", "3"}, "parent_id": {"", "1", "2"}, "name": {"a", "b", "b"}},
		"products":   {"id": {"1", "2"}, "category_id": {"2", "3"}, "homepage": {"https://a.example/x", "http://b.example"}, "name": {"x", "y"}, "updated_by": {"1", "2"}},
		"bins":       {"id": {"1", "2"}, "colour": {"red", "red"}},
	}})
	require.NoError(t, err)
	got := string(d.YAML("sandbox"))
	c, err := catalog.Parse("draft", []byte(got))
	require.NoError(t, err, got)
	assert.Equal(t, []string{"category", "product", "product_name"}, c.Names())

	category, _ := c.Type("category")
	assert.Equal(t, []string{"parent_id", "name"}, category.Key, "the parent included for a tree")
	assert.Equal(t, map[string]catalog.Reference{"parent_id": {To: []string{"category"}}}, category.Refers)
	assert.Equal(t, []string{"lft", "rgt"}, category.Ignore)
	assert.Contains(t, got, "no unique index; unique in the 3 records that there are")
	assert.Contains(t, got, "no foreign key, but all of its values are ids of categories")

	product, _ := c.Type("product")
	assert.Equal(t, []string{"sku_code"}, product.Key, "a code before a random value")
	assert.Equal(t, map[string]catalog.Reference{"category_id": {To: []string{"category"}}}, product.Refers)
	assert.Equal(t, []string{"api_secret"}, product.Secret)
	assert.Contains(t, product.Local, "homepage")
	assert.Equal(t, []string{"created"}, product.Ignore)
	assert.Equal(t, "updated_at", product.StampAt)
	assert.Equal(t, "updated_by", product.StampBy)
	assert.Equal(t, []string{"photo"}, product.Files)
	assert.Equal(t, "archived", product.Retired.Field)
	assert.Equal(t, "name", product.Title)

	names, _ := c.Type("product_name")
	assert.Equal(t, "", names.ID)
	assert.Equal(t, []string{"product", "language"}, names.Key)
	assert.Equal(t, "product", names.PartOf)

	left := map[string]string{}
	for _, n := range d.LeftOut {
		left[n.Name] = n.Why
	}
	assert.Equal(t, map[string]string{
		"audit_log": "the name is that of a log or of passing data", "seen": "a view, which is only read", "orders": "more than 0 rows: transactions rather than setup",
		"bins":       "no key: no unique index without the internal id, and no set of columns that looks like one is unique in the data",
		"bin_things": "its key refers to bin, which is left out",
	}, left)
	again, err := Make(places, facts{t: t, data: map[string]map[string][]string{}})
	require.NoError(t, err)
	assert.NotEmpty(t, again.YAML("x"), "an empty database has a draft as well")
}

func TestSingular(t *testing.T) {
	for plural, want := range map[string]string{"assays": "assay", "categories": "category", "boxes": "box", "classes": "class", "status": "status", "address": "address", "branches": "branch", "news": "new", "ids": "ids", "analysis": "analysis", "t": "t"} {
		assert.Equal(t, want, Singular(plural))
	}
}
