package draft

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// A made-up application without one foreign key, seen in two environments that hold the same
// setup under other numbers, with every habit that a draft has to see through.

type room struct {
	data   facts
	target bool
}

// id gives a record its number: 1 to n in the source, others in another order in the target.
func (r room) id(i, of int) string {
	if r.target {
		return fmt.Sprint(of + 38 - i)
	}
	return fmt.Sprint(i)
}

// put adds a row; "" is null.
func (r room) put(table string, row map[string]string) {
	if r.data[table] == nil {
		r.data[table] = map[string][]string{}
	}
	for column, value := range row {
		r.data[table][column] = append(r.data[table][column], value)
	}
}

func col(name string, kind record.Kind) catalog.Column { return catalog.Column{Name: name, Kind: kind} }

func plainID(name string) catalog.Column {
	return catalog.Column{Name: name, Kind: record.Integer, Required: true}
}

func stockroomPlaces() map[string]catalog.Place {
	place := func(name string, primary []string, unique [][]string, columns ...catalog.Column) catalog.Place {
		return catalog.Place{Name: name, Primary: primary, Unique: unique, Columns: columns}
	}
	when, number, words := record.LocalTimestamp, record.Integer, record.Text
	classes := place("classes", []string{"class_id"}, nil, id("class_id"), text("code"), text("name"), col("deleted_at", when))
	classes.Partly = []catalog.PartlyUnique{{Columns: []string{"code"}, Field: "deleted_at", When: "null"}}
	rates := place("rates", []string{"id"}, nil, plainID("id"), text("code"), col("active", record.Boolean), col("factor", record.Decimal))
	rates.Partly = []catalog.PartlyUnique{{Columns: []string{"code"}, Field: "active", Value: "1"}}
	modes := place("modes", []string{"id"}, nil, plainID("id"), text("code"), text("kind"))
	modes.Partly = []catalog.PartlyUnique{{Columns: []string{"code"}, Field: "kind", Value: "it's"}}
	out := map[string]catalog.Place{}
	for _, p := range []catalog.Place{
		classes, rates, modes,
		place("staff", []string{"staff_id"}, nil, plainID("staff_id"), text("login"), text("first_name"), text("email"), text("password")),
		place("sites", []string{"site_id"}, nil, plainID("site_id"), col("parent_id", number), text("name"), col("lft", number), col("rgt", number), col("complete_name", words), col("created_at", when), col("created_by", number), col("updated_at", when), col("updated_by", number)),
		place("articles", []string{"id"}, [][]string{{"sku"}, {"uuid"}}, plainID("id"), text("sku"), col("uuid", words), text("name"), col("class_id", number), col("grade", number), col("kit_ids", words), col("layout", record.JSON), col("formula", words), col("search_name", words), col("site_code_no", number), col("odd_at", when), col("status", words), col("legacy_id", number), catalog.Column{Name: "photo", Kind: record.Bytes}, catalog.Column{Name: "hidden", Kind: words, Unreadable: true}),
		place("levels", []string{"id"}, [][]string{{"code"}}, plainID("id"), text("code"), text("name")),
		place("translations", nil, [][]string{{"object_type", "object_id", "lang"}}, text("object_type"), plainID("object_id"), text("lang"), text("body")),
		place("bookings", []string{"id"}, nil, plainID("id"), col("article_id", number), col("staff_id", number), col("from_at", when), col("created_at", when)),
		place("booking_lines", []string{"id"}, nil, plainID("id"), plainID("booking_id"), plainID("line_no"), col("qty", number)),
		place("movement_log", []string{"id"}, nil, plainID("id"), col("article_id", number), col("moved_at", when)),
		place("visits", []string{"id"}, nil, plainID("id"), text("remark"), col("made_at", when)),
		place("ranges", []string{"code"}, nil, text("code"), text("prefix"), plainID("last_no")),
		place("totals", []string{"name"}, nil, text("name"), plainID("next_value")),
		place("ids", nil, nil, text("table_name"), text("field_name"), plainID("last_value")),
		place("countries", []string{"iso_no"}, nil, plainID("iso_no"), text("title")),
		place("regions", []string{"number"}, [][]string{{"code"}}, plainID("number"), text("code"), text("label")),
		place("reasons", []string{"id"}, nil, plainID("id"), col("parent_id", number), text("code"), text("name")),
		place("devices", []string{"id"}, [][]string{{"code"}}, plainID("id"), text("code"), text("channel"), text("endpoint_url"), col("class_id", number), col("country", number), col("node_uuid", words)),
		place("nodes", []string{"node_uuid"}, [][]string{{"name"}}, col("node_uuid", words), text("name")),
		place("steps", []string{"id"}, nil, plainID("id"), plainID("rule_id"), plainID("position"), text("action")),
		place("rules", []string{"id"}, [][]string{{"code"}}, plainID("id"), text("code")),
		place("empty_ones", []string{"id"}, nil, plainID("id"), text("code")),
		place("empty_links", []string{"owner_id", "kind"}, nil, plainID("owner_id"), text("kind")),
		place("asked_away", []string{"code"}, nil, text("code")),
		place("counting_view", nil, nil, text("a")),
	} {
		if p.Name == "counting_view" {
			p.ReadOnly = true
		}
		out[p.Name] = p
	}
	return out
}

func fill(target bool) facts {
	r := room{facts{}, target}
	side := map[bool]string{true: "t", false: "s"}[target]
	for i := 1; i <= 6; i++ {
		r.put("staff", map[string]string{"staff_id": r.id(i, 6), "login": fmt.Sprint("user", i), "first_name": "F", "email": "e"})
	}
	for i := 1; i <= 14; i++ {
		parent := ""
		if i > 2 {
			parent = r.id((i+1)/3, 14)
		}
		r.put("sites", map[string]string{"site_id": r.id(i, 14), "parent_id": parent, "name": fmt.Sprint("Room ", (i+1)%3+i/13*9), "lft": fmt.Sprint(i), "rgt": fmt.Sprint(i + 1), "complete_name": "x", "created_at": "2026-01-01T08:00:00", "created_by": r.id(1+i%6, 6), "updated_at": "2026-02-01T08:00:00", "updated_by": r.id(1+i%5, 6)})
	}
	for i := 1; i <= 12; i++ {
		gone, code := "", fmt.Sprint("K", i)
		if i > 10 {
			gone, code = "2025-05-05T00:00:00", fmt.Sprint("K", i-10)
		}
		r.put("classes", map[string]string{"class_id": r.id(i, 12), "code": code, "name": fmt.Sprint("Class ", i), "deleted_at": gone})
		r.put("rates", map[string]string{"id": r.id(i, 12), "code": code, "active": map[bool]string{true: "false", false: "true"}[i > 10], "factor": fmt.Sprint("1.", i)})
		r.put("modes", map[string]string{"id": r.id(i, 12), "code": code, "kind": map[bool]string{true: "other", false: "it's"}[i > 10]})
		r.put("countries", map[string]string{"iso_no": fmt.Sprint(i * 4), "title": fmt.Sprint("Land ", i/2)})
		r.put("regions", map[string]string{"number": r.id(i, 12), "code": fmt.Sprint("G", i), "label": "l"})
		r.put("rules", map[string]string{"id": r.id(i, 12), "code": fmt.Sprint("R", i)})
		for step := range 3 {
			r.put("steps", map[string]string{"id": r.id(i*3+step, 40), "rule_id": r.id(i, 12), "position": fmt.Sprint(step), "action": fmt.Sprint("a", i%2)})
		}
		r.put("nodes", map[string]string{"node_uuid": fmt.Sprintf("%x0000000-0000-4000-8000-0000000000%02d", map[bool]int{true: 11, false: 10}[target], i), "name": fmt.Sprint("node ", i)})
		r.put("devices", map[string]string{"id": r.id(i, 12), "code": fmt.Sprint("D", i), "channel": side + fmt.Sprint(i), "class_id": r.id(i, 12), "endpoint_url": "https://" + side + ".example/x", "country": fmt.Sprint(1 + i%4), "node_uuid": fmt.Sprintf("%x0000000-0000-4000-8000-0000000000%02d", map[bool]int{true: 11, false: 10}[target], 13-i)})
	}
	for i := 1; i <= 4; i++ {
		r.put("levels", map[string]string{"id": r.id(i, 4), "code": fmt.Sprint("Q", i), "name": fmt.Sprint("Level ", i)})
		r.put("ranges", map[string]string{"code": fmt.Sprint("N", i), "prefix": "x", "last_no": r.id(i*7, 900)})
		r.put("totals", map[string]string{"name": fmt.Sprint("N", i), "next_value": r.id(i*7, 800)})
		r.put("ids", map[string]string{"table_name": fmt.Sprint("t", i), "field_name": "id", "last_value": "5"})
	}
	article := func(i int) string { return r.id(1+(i-1)%60, 60) }
	for i := 1; i <= 60; i++ {
		class := "0"
		if i%7 != 0 {
			class = r.id(1+i%10, 12)
		}
		r.put("articles", map[string]string{"id": article(i), "sku": fmt.Sprintf("A-%03d", i), "uuid": fmt.Sprintf("%x0000000-0000-4000-8000-0000000000%02d", map[bool]int{true: 15, false: 14}[target], i), "name": fmt.Sprint("Article ", i), "class_id": class, "grade": r.id(1+i%4, 4),
			"kit_ids": article(i+1) + "," + article(i+7), "layout": `{"shelf":{"article_id":` + article(i+2) + `},"n":3}`, "formula": "{" + article(i+3) + "} * 2", "search_name": "x", "site_code_no": fmt.Sprint(i % 5), "odd_at": "0000-00-00 00:00:00", "status": map[bool]string{true: "retired", false: "open"}[i == 9], "legacy_id": map[bool]string{true: fmt.Sprint(900 - i), false: fmt.Sprint(300 + i)}[target]})
		for _, lang := range []string{"de", "fr"} {
			r.put("translations", map[string]string{"object_type": "article", "object_id": article(i), "lang": lang, "body": fmt.Sprint("t", i)})
		}
	}
	for i := 1; i <= 14; i++ {
		r.put("translations", map[string]string{"object_type": "site", "object_id": r.id(i, 14), "lang": "de", "body": "r"})
	}
	r.put("translations", map[string]string{"object_type": "booking", "object_id": "3", "lang": "de", "body": "b"})
	r.put("translations", map[string]string{"object_type": "nobody", "object_id": "99999", "lang": "de", "body": "b"})
	for i := 1; i <= map[bool]int{true: 90, false: 50}[target]; i++ {
		day := fmt.Sprintf("2026-0%d-%02dT10:%02d:00", map[bool]int{true: 6, false: 3}[target], 1+i%28, i%60)
		r.put("bookings", map[string]string{"id": fmt.Sprint(i), "article_id": article(i * 7), "staff_id": r.id(1+i%6, 6), "from_at": day, "created_at": day})
		r.put("booking_lines", map[string]string{"id": fmt.Sprint(i), "booking_id": fmt.Sprint(i), "line_no": "1", "qty": r.id(i*7%5, 6)})
		r.put("movement_log", map[string]string{"id": fmt.Sprint(i), "article_id": article(i * 3), "moved_at": day})
	}
	for i := 1; i <= map[bool]int{true: 6000, false: 30}[target]; i++ {
		r.put("visits", map[string]string{"id": fmt.Sprint(i), "remark": fmt.Sprint(side, i), "made_at": "2026-01-01T00:00:00"})
	}
	for i := 1; i <= 24; i++ {
		parent := ""
		if i > 4 {
			parent = r.id(1+i%4, 24)
		}
		r.put("reasons", map[string]string{"id": r.id(i, 24), "parent_id": parent, "code": fmt.Sprint("R", i%2), "name": fmt.Sprint("Reason ", i/3)})
	}
	return r.data
}

func stockroomDraft(t *testing.T, wish Wish) *Draft {
	t.Helper()
	places := stockroomPlaces()
	d, err := Make([]Sight{sight(t, "sandbox", places, fill(false), nil), sight(t, "production", places, fill(true), map[string]int{"bookings": 90})}, wish)
	require.NoError(t, err)
	_, err = catalog.Parse("draft", d.YAML())
	require.NoError(t, err, string(d.YAML()))
	return d
}

func TestADraftOfAWholeApplication(t *testing.T) {
	got := string(stockroomDraft(t, Wish{Without: []string{"asked_*"}}).YAML())
	if os.Getenv("UPDATE_GOLDEN") != "" {
		require.NoError(t, os.WriteFile("testdata/stockroom.yaml", []byte(got), 0o600))
	}
	want, err := os.ReadFile("testdata/stockroom.yaml")
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
	assert.Equal(t, got, string(stockroomDraft(t, Wish{Without: []string{"asked_*"}}).YAML()), "the same facts give the same draft")
}

func TestADraftIsBroughtIntoACatalog(t *testing.T) {
	d := stockroomDraft(t, Wish{})
	const source = "# mine\ntypes:\n   art:   # three blanks\n      at: articles\n      key: [sku]\n      id: id\n      plain: [grade]\n   rule: {at: nowhere, key: [code]}\n# reasons stay where they are\nareas:\n   all: [art]\n"
	c, err := catalog.Parse("c", []byte(source))
	require.NoError(t, err)
	got, err := d.Into(c, []string{"sandbox", "production"}, nil)
	require.NoError(t, err)
	assert.NotContains(t, got.Added, "reason")
	assert.Equal(t, []string{"reasons"}, got.Named)
	assert.Contains(t, got.Added, "rule_2", "a name that is taken gets another")
	joined := strings.Join(got.Missing, "\n")
	for _, want := range []string{"art.class_id: refers: {class_id: {to: class, none: [0]}}", "art.kit_ids: refers: {kit_ids: {to: article, list: \",\"}}", "art.search_name: derived: ", "art.odd_at: ignore: it holds 0000-00-00"} {
		assert.Contains(t, joined, want)
	}
	assert.NotContains(t, joined, "grade", "what is plain is said to be")
	with, err := catalog.Parse("c", got.Text)
	require.NoError(t, err, string(got.Text))
	translation, _ := with.Type("translation")
	assert.Equal(t, map[string]string{"article": "art", "site": "site"}, translation.Refers["object_id"].Words, "by the names that the catalog has")
	step, _ := with.Type("step")
	assert.Equal(t, "rule_2", step.PartOf)
	assert.True(t, strings.HasPrefix(string(got.Text), source[:strings.Index(source, "# reasons")]))
	assert.True(t, strings.HasSuffix(string(got.Text), source[strings.Index(source, "# reasons"):]))

	all, err := d.Into(c, []string{"sandbox", "production"}, []string{"reasons"})
	require.NoError(t, err)
	assert.Contains(t, all.Added, "reason", "what is wished for comes in")
	again, err := catalog.Parse("c", all.Text)
	require.NoError(t, err)
	none, err := d.Into(again, []string{"sandbox", "production"}, nil)
	require.NoError(t, err)
	assert.Empty(t, none.Added)
	assert.Equal(t, string(all.Text), string(none.Text))
	flat, err := catalog.Parse("c", []byte("types: {art: {at: articles, key: [sku]}}"))
	require.NoError(t, err)
	_, err = d.Into(flat, []string{"sandbox"}, nil)
	assert.ErrorContains(t, err, "written on one line")
	assert.True(t, Names("art*", []Sight{{Places: stockroomPlaces()}}))
	assert.False(t, Names("arts", []Sight{{Places: stockroomPlaces()}}))
}
