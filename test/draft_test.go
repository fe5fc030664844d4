package test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
)

// stockrooms makes a workspace of two environments of the stock room without a catalog.
func stockrooms(t *testing.T, engine string) (p *place, source, target *sql.DB) {
	t.Helper()
	p = &place{t: t, dir: t.TempDir(), user: "mara"}
	from, source := server(t, p, engine, "sandbox")
	to, target := server(t, p, engine, "production")
	stockroom(t, engine, source, false)
	stockroom(t, engine, target, true)
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  sandbox: {connect: %q}\n  production: {connect: %q}\n", from, to))
	trustElsewhere(p)
	return p, source, target
}

// The draft from both sides finds every key, reference, counter and retired record of an
// application that states none of them; the match by it shows what differs and nothing else.
func TestADraftFromBothSides(t *testing.T) {
	t.Parallel()
	inGate(t, "drafts of many tables")
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p, source, target := stockrooms(t, engine)
			p.must(0, "catalog", "draft", "sandbox", "production", "--out", "catalog.yaml")
			text := string(p.read("catalog.yaml"))
			c, err := catalog.Parse("draft", []byte(text))
			require.NoError(t, err, text)
			if os.Getenv("ANAGRAM_TEST_SHOW") != "" {
				t.Log(text)
			}
			keys := map[string][]string{}
			for _, typ := range c.Types {
				keys[typ.Name] = typ.Key
			}
			assert.Equal(t, map[string][]string{"site": {"parent_id", "name"}, "storage_class": {"code"}, "vendor": {"code"}, "quality_level": {"code"}, "article": {"sku"}, "shelf": {"site_id", "label"},
				"translation": {"object_type", "object_id", "lang", "field"}, "number_range": {"code"}, "journal_type": {"code"}, "price_rule": {"class_id", "valid_from"}, "reason": {"parent_id", "code", "name"}}, keys)
			article, _ := c.Type("article")
			assert.Equal(t, map[string][]string{"class_id": {"storage_class"}, "vendor": {"vendor"}, "grade": {"quality_level"}, "kit_ids": {"article"}, "layout": {"shelf"}, "formula": {"article"}}, targets(article))
			assert.Equal(t, []string{"0"}, article.Refers["class_id"].None)
			assert.Equal(t, []string{"search_name"}, article.Derived)
			assert.Equal(t, []string{"service_url"}, article.LocalFields())
			assert.Equal(t, catalog.Retired{Field: "enabled", Values: []string{"false"}}, article.Retired)
			translation, _ := c.Type("translation")
			assert.Equal(t, map[string]string{"article": "article", "site": "site"}, translation.Refers["object_id"].Words)
			assert.Equal(t, "object_type in ['article', 'site']", translation.Only)
			class, _ := c.Type("storage_class")
			if engine == "mysql" {
				assert.Equal(t, catalog.Retired{Field: "deleted_at", When: "not null"}, class.Retired)
			} else {
				assert.Equal(t, "deleted_at == null", class.Only, "a key that is unique among what is in use")
			}
			site, _ := c.Type("site")
			assert.Equal(t, []string{"lft", "rgt", "complete_name"}, site.Derived)
			assert.Equal(t, []string{"updated_at", "updated_by", "created_at", "created_by"}, []string{site.StampAt, site.StampBy, site.CreatedAt, site.CreatedBy})
			assert.Equal(t, catalog.Person{At: "staff", ID: "staff_id", Name: "login"}, site.StampPerson)
			numbers, _ := c.Type("number_range")
			assert.Equal(t, []string{"last_no"}, numbers.LocalFields())
			for _, line := range []string{"bookings +50 +90  .*grows with use", "booking_lines +50 +90 ", "movement_log +50 +90 ", "running_totals +4 +4  it only counts", "staff +6 +6  people"} {
				assert.Regexp(t, "(?m)^#   "+line, text)
			}

			r := p.must(0, "catalog", "check", "sandbox", "production")
			assert.Contains(t, r.out, "sandbox: the catalog holds for all 11 record types")
			p.must(3, "match", "sandbox", "--against", "production", "--name", "first")
			assert.Equal(t, []string{"article/A-020 changed", "article/A-040 changed", "article/A-060 changed"}, differing(p))

			// A new record arrives with the target's own numbers wherever they stand in it.
			run(t, source, `INSERT INTO articles (id, sku, name, class_id, vendor, grade, search_name, kit_ids, layout, formula, service_url, enabled)
				VALUES (900, 'A-900', 'new', 2, 3, 4, 'new', '1,2', '{"shelf_id":5,"width":9}', '{7} + {8}', 'https://test.example/n', `+map[bool]string{true: "true", false: "1"}[engine == "postgres"]+")",
				"INSERT INTO translations VALUES ('article', 900, 'de', 'name', 'neu')")
			p.must(3, "match", "sandbox", "--against", "production", "--name", "third")
			p.must(0, "approve", "article/A-900", "--with-parts")
			p.must(0, "approve", "translation/*", "--status", "new")
			p.must(0, "import")
			there := func(query string) string {
				var out string
				require.NoError(t, target.QueryRow(query).Scan(&out), query)
				return out
			}
			of := func(sku string) string { return there("SELECT id FROM articles WHERE sku = '" + sku + "'") }
			assert.Equal(t, of("A-001")+","+of("A-002"), there("SELECT kit_ids FROM articles WHERE sku = 'A-900'"))
			assert.Equal(t, "{"+of("A-007")+"} + {"+of("A-008")+"}", there("SELECT formula FROM articles WHERE sku = 'A-900'"))
			assert.JSONEq(t, fmt.Sprintf(`{"width":9,"shelf_id":%d}`, 40+1-5+37), there("SELECT layout FROM articles WHERE sku = 'A-900'"))
			assert.Equal(t, "Q4", there("SELECT l.code FROM articles a JOIN quality_levels l ON l.id = a.grade WHERE a.sku = 'A-900'"))
			assert.Equal(t, "V3", there("SELECT v.code FROM articles a JOIN vendors v ON v.id = a.vendor WHERE a.sku = 'A-900'"))
			assert.Equal(t, "neu", there("SELECT body FROM translations WHERE object_type = 'article' AND object_id = "+of("A-900")))

			// What production took out of use is never made a second time.
			run(t, source, "INSERT INTO storage_classes (class_id, code, name) VALUES (90, 'K99', 'new here')")
			run(t, target, "INSERT INTO storage_classes (class_id, code, name, deleted_at) VALUES (91, 'K99', 'out of use', '2026-01-01 00:00:00')")
			p.must(3, "match", "sandbox", "--against", "production", "--name", "second")
			want := "held-outside"
			if engine == "mysql" {
				want = "created-on-both, retired-in-target"
			}
			assert.Contains(t, words(p.must(0, "review", "--full", "--status", "conflict").out), "storage_class/K99 new here conflict ("+want)
		})
	}
}

func targets(t *catalog.Type) map[string][]string {
	out := map[string][]string{}
	for field, r := range t.Refers {
		out[field] = r.To
	}
	return out
}

// differing lists what the newest docket shows, with its status.
func differing(p *place) (out []string) {
	for _, line := range strings.Split(strings.TrimSpace(p.must(0, "review", "--json").out), "\n") {
		var f struct{ Address, Status string }
		require.NoError(p.t, json.Unmarshal([]byte(line), &f), line)
		out = append(out, f.Address+" "+f.Status)
	}
	slices.Sort(out)
	return out
}
