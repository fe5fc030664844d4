package test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The stock room of Fernhollow Diagnostics: an application without one foreign key and with
// every habit by which internal numbers, counters and retired records slip into an export.
// Both environments hold the same setup under other numbers, but for a few changes.

var stockroomTables = []string{
	"CREATE TABLE staff (staff_id {pk}, login VARCHAR(30), first_name VARCHAR(30), email VARCHAR(60), password_hash VARCHAR(80))",
	"CREATE TABLE sites (site_id {pk}, parent_id INTEGER, name VARCHAR(40), lft INTEGER, rgt INTEGER, complete_name VARCHAR(90), created_at {ts}, created_by INTEGER, updated_at {ts}, updated_by INTEGER)",
	"CREATE TABLE storage_classes (class_id {pk}, code VARCHAR(20) NOT NULL, name VARCHAR(40), deleted_at {ts})",
	"CREATE TABLE vendors (id {pk}, code VARCHAR(20) NOT NULL, name VARCHAR(40), status VARCHAR(10))",
	"CREATE TABLE quality_levels (id {pk}, code VARCHAR(20) NOT NULL, name VARCHAR(40), CONSTRAINT one_level UNIQUE (code))",
	"CREATE TABLE articles (id {pk}, sku VARCHAR(20) NOT NULL, name VARCHAR(40), class_id INTEGER NOT NULL DEFAULT 0, vendor INTEGER, grade INTEGER, search_name VARCHAR(40), kit_ids VARCHAR(60), layout VARCHAR(200), formula VARCHAR(90), service_url VARCHAR(90), enabled {bool}, CONSTRAINT one_sku UNIQUE (sku))",
	"CREATE TABLE shelves (id {pk}, site_id INTEGER NOT NULL, label VARCHAR(20), width INTEGER)",
	"CREATE TABLE translations (object_type VARCHAR(20) NOT NULL, object_id INTEGER NOT NULL, lang VARCHAR(5) NOT NULL, field VARCHAR(20) NOT NULL, body VARCHAR(80), CONSTRAINT one_text UNIQUE (object_type, object_id, lang, field))",
	"CREATE TABLE number_ranges (code VARCHAR(20) PRIMARY KEY, prefix VARCHAR(9), last_no INTEGER NOT NULL)",
	"CREATE TABLE running_totals (name VARCHAR(20) PRIMARY KEY, next_value INTEGER)",
	"CREATE TABLE bookings (id {pk}, article_id INTEGER, staff_id INTEGER, from_at {ts}, to_at {ts}, created_at {ts})",
	"CREATE TABLE booking_lines (id {pk}, booking_id INTEGER, line_no INTEGER, qty INTEGER)",
	"CREATE TABLE journal_types (id {pk}, code VARCHAR(20) NOT NULL, name VARCHAR(40), CONSTRAINT one_type UNIQUE (code))",
	"CREATE TABLE price_rules (id {pk}, class_id INTEGER, valid_from DATE, factor DECIMAL(9,3), created_at {ts})",
	"CREATE TABLE reasons (id {pk}, parent_id INTEGER, code VARCHAR(9), name VARCHAR(40))",
	"CREATE TABLE movement_log (id {pk}, article_id INTEGER, moved_at {ts}, qty INTEGER)",
}

// stockroom fills one environment. Of ids the source has 1 to n, the target others in another
// order.
func stockroom(t *testing.T, engine string, db *sql.DB, target bool) {
	t.Helper()
	words := map[string][]string{
		"sqlite":   {"INTEGER PRIMARY KEY", "DATETIME", "BOOLEAN"},
		"postgres": {"serial PRIMARY KEY", "timestamp", "boolean"},
		"mysql":    {"INTEGER AUTO_INCREMENT PRIMARY KEY", "DATETIME", "TINYINT(1)"},
	}[engine]
	run(t, db, "SELECT 1")
	for _, statement := range stockroomTables {
		run(t, db, strings.NewReplacer("{pk}", words[0], "{ts}", words[1], "{bool}", words[2]).Replace(statement))
	}
	if engine != "mysql" { // which knows no index on a part of the rows
		run(t, db, "CREATE UNIQUE INDEX one_class ON storage_classes (code) WHERE deleted_at IS NULL")
	}
	id := func(i, of int) int {
		if target {
			return of + 1 - i + 37
		}
		return i
	}
	rows := map[string][]string{}
	put := func(table, format string, args ...any) {
		rows[table] = append(rows[table], "("+fmt.Sprintf(format, args...)+")")
	}
	const people, sites, classes, vendors, levels, articles, shelves = 6, 14, 12, 9, 4, 60, 40
	for i := 1; i <= people; i++ {
		put("staff", "%d, 'user%d', 'First%d', 'u%d@lab.example', 'x%d'", id(i, people), i, i, i, i)
	}
	site := func(i int) int { return id(i, sites) }
	for i := 1; i <= sites; i++ {
		parent := "NULL"
		if i > 2 {
			parent = fmt.Sprint(site((i + 1) / 3))
		}
		put("sites", "%d, %s, 'Room %d', %d, %d, 'all/%d', '2026-01-01 08:00:00', %d, '2026-02-0%d 08:00:00', %d", site(i), parent, (i+1)%3+i/13*9, i*2+id(1, 9), i*2+1, i, id(1+i%people, people), 1+i%8, id(1+i%5, people))
	}
	class := func(i int) int { return id(i, classes) }
	for i := 1; i <= classes; i++ {
		gone, code := "NULL", fmt.Sprintf("K%d", i)
		if i > 10 && engine != "mysql" { // out of use, and their codes are used again
			gone, code = "'2025-05-05 00:00:00'", fmt.Sprintf("K%d", i-10)
		} else if i > 10 {
			gone = "'2025-05-05 00:00:00'"
		}
		put("storage_classes", "%d, '%s', 'Class %d', %s", class(i), code, i, gone)
	}
	for i := 1; i <= vendors; i++ {
		put("vendors", "%d, 'V%d', 'Vendor %d', '%s'", id(i, vendors), i, i, map[bool]string{true: "inactive", false: "active"}[i == 3])
	}
	for i := 1; i <= levels; i++ {
		put("quality_levels", "%d, 'Q%d', 'Level %d'", id(i, levels), i, i)
	}
	article := func(i int) int { return id(1+(i-1)%articles, articles) }
	for i := 1; i <= articles; i++ {
		name := fmt.Sprintf("Article %d", i)
		if i%20 == 0 && !target {
			name += " (new)"
		}
		in := 0
		if i%7 != 0 {
			in = class(1 + i%10)
		}
		put("articles", `%d, 'A-%03d', '%s', %d, %d, %d, 'article %d', '%d,%d', '{"shelf_id":%d,"width":3}', '{%d} * 2 + {%d}', '%s', %s`,
			article(i), i, name, in, id(1+i%vendors, vendors), id(1+i%levels, levels), i, article(i+1), article(i+7), id(1+i%shelves, shelves), article(i+3), article(i+11), map[bool]string{true: "https://prod.example/a", false: "https://test.example/a"}[target],
			map[bool]string{true: map[bool]string{true: "false", false: "0"}[engine == "postgres"], false: map[bool]string{true: "true", false: "1"}[engine == "postgres"]}[i == 5])
	}
	for i := 1; i <= shelves; i++ {
		put("shelves", "%d, %d, 'S%d', %d", id(i, shelves), site(1+i%sites), i/sites, 40+i%3)
	}
	for i := 1; i <= articles; i++ {
		for _, lang := range []string{"de", "fr"} {
			put("translations", "'article', %d, '%s', 'name', 'Text %d %s'", article(i), lang, i, lang)
		}
	}
	for i := 1; i <= sites; i++ {
		put("translations", "'site', %d, 'de', 'name', 'Raum %d'", site(i), i)
	}
	put("translations", "'booking', %d, 'de', 'note', 'x'", id(3, 50))
	for i, code := range []string{"INV", "ORD", "QUO", "RET"} {
		put("number_ranges", "'%s', '%s-', %d", code, code, id(100*i+7, 9000))
		put("running_totals", "'%s', %d", code, id(55+i, 800))
	}
	bookings := map[bool]int{true: 90, false: 50}[target]
	for i := 1; i <= bookings; i++ {
		day := map[bool]string{true: "2026-06", false: "2026-03"}[target]
		put("bookings", "%d, %d, %d, '%s-%02d 10:%02d:00', '%s-%02d 12:00:00', '%s-01 0%d:%02d:00'", i, article(i*7), id(1+i%people, people), day, 1+i%28, i%60, day, 1+i%28, day, i%9, i%60)
		put("booking_lines", "%d, %d, 1, %d", i, i, id(i*7%5, 6))
		put("movement_log", "%d, %d, '%s-%02d 11:00:00', %d", i, article(i*3), day, 1+i%28, id(i*7%5, 6))
	}
	for i := 1; i <= 5; i++ {
		put("journal_types", "%d, 'J%d', 'Journal %d'", id(i, 5), i, i)
	}
	for i := 1; i <= 120; i++ {
		put("price_rules", "%d, %d, '2026-%02d-01', 1.%d, '2026-01-0%d 10:00:00'", id(i, 120), class(1+i%10), 1+i/10%12, i, 1+i%9)
	}
	for i := 1; i <= 24; i++ { // neither code nor name alone tells them apart below one parent
		parent := "NULL"
		if i > 4 {
			parent = fmt.Sprint(id(1+i%4, 24))
		}
		put("reasons", "%d, %s, 'R%d', 'Reason %d'", id(i, 24), parent, i%2, i/3)
	}
	for table, values := range rows {
		run(t, db, "INSERT INTO "+table+" VALUES "+strings.Join(values, ", "))
	}
	if engine == "postgres" {
		for table, column := range map[string]string{"sites": "site_id", "articles": "id", "storage_classes": "class_id"} {
			run(t, db, fmt.Sprintf("SELECT setval(pg_get_serial_sequence('%s', '%s'), 500)", table, column))
		}
	}
	require.NoError(t, db.Ping())
}
