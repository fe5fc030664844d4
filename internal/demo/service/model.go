package service

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/pattern"
)

// field is a column of a table and the property that it is.
type field struct {
	name      string
	edm       string
	nullable  bool
	hasValue  bool // by itself
	computed  bool
	length    int
	precision int
	scale     int
	refers    string // set
	refersKey string
	nav       string
	navOnly   bool
	once      bool
}

// set is a table.
type set struct {
	name   string
	fields []field
	key    []string
	unique [][]string
	rowID  bool   // it has no key of its own, so the row's number is one
	links  []link // many to many
}

// link leads over a table of two foreign keys to another set.
type link struct {
	nav, table, from, to, target, targetKey string
	partner                                 string
}

var (
	withLength = pattern.Of(`(?i)CHAR\w*\s*\(\s*(\d+)\s*\)`)
	withDigits = pattern.Of(`(?i)(?:DECIMAL|NUMERIC)\s*\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)`)
)

// RowID is the property that stands in for the key of a table without one.
const RowID = "row_id"

func edmOf(declared string) string {
	upper := strings.ToUpper(declared)
	switch {
	case strings.Contains(upper, "BOOL"):
		return "Edm.Boolean"
	case strings.Contains(upper, "INT"):
		return "Edm.Int64"
	case strings.Contains(upper, "TIMESTAMP"), strings.Contains(upper, "DATETIME"):
		return "Edm.DateTimeOffset"
	case upper == "DATE":
		return "Edm.Date"
	case strings.Contains(upper, "DEC"), strings.Contains(upper, "NUM"), strings.Contains(upper, "REAL"):
		return "Edm.Decimal"
	case strings.Contains(upper, "JSON"):
		return "Edm.Untyped"
	case strings.Contains(upper, "BLOB"):
		return "Edm.Stream"
	default:
		return "Edm.String"
	}
}

// model reads what the database has.
func model(ctx context.Context, db *sql.DB, o Options) (map[string]*set, error) {
	names, err := column(ctx, db, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY 1")
	if err != nil {
		return nil, err
	}
	sets := map[string]*set{}
	for _, name := range names {
		s, err := table(ctx, db, name)
		if err != nil {
			return nil, err
		}
		sets[name] = s
	}
	for _, name := range names {
		linkUp(sets, sets[name])
	}
	for _, s := range sets {
		for i := range s.fields {
			s.fields[i].once = slices.Contains(o.Once, s.name+"."+s.fields[i].name)
			if f := &s.fields[i]; o.NavOnly && sets[f.refers] != nil && !slices.Contains(s.key, f.name) {
				f.nav, f.navOnly = f.name, true
			}
		}
	}
	return sets, nil
}

func column(ctx context.Context, db *sql.DB, query string, args ...any) ([]string, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}

func table(ctx context.Context, db *sql.DB, name string) (*set, error) {
	s := &set{name: name}
	rows, err := db.QueryContext(ctx,
		`SELECT name, type, "notnull", dflt_value IS NOT NULL, pk FROM pragma_table_info(?) ORDER BY cid`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	keyed := map[int]string{}
	for rows.Next() {
		var f field
		var declared string
		var required bool
		var pk int
		if err := rows.Scan(&f.name, &declared, &required, &f.hasValue, &pk); err != nil {
			return nil, err
		}
		f.edm, f.nullable = edmOf(declared), !required && pk == 0
		if m := withLength.FindStringSubmatch(declared); m != nil && f.edm == "Edm.String" {
			f.length, _ = strconv.Atoi(m[1])
		}
		if m := withDigits.FindStringSubmatch(declared); m != nil {
			f.precision, _ = strconv.Atoi(m[1])
			f.scale, _ = strconv.Atoi(m[2])
		}
		if pk > 0 {
			keyed[pk] = f.name
			f.computed = strings.EqualFold(declared, "INTEGER")
		}
		s.fields = append(s.fields, f)
	}
	for i := 1; keyed[i] != ""; i++ {
		s.key = append(s.key, keyed[i])
	}
	if len(s.key) != 1 {
		for i := range s.fields {
			s.fields[i].computed = false
		}
	}
	if len(s.key) == 0 {
		s.rowID, s.key = true, []string{RowID}
		s.fields = append(s.fields, field{name: RowID, edm: "Edm.Int64", computed: true})
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if err := s.foreign(ctx, db); err != nil {
		return nil, err
	}
	return s, s.alternate(ctx, db)
}

func (s *set) foreign(ctx context.Context, db *sql.DB) error {
	rows, err := db.QueryContext(ctx,
		`SELECT "from", "table", coalesce("to", '') FROM pragma_foreign_key_list(?) f WHERE (SELECT count(*) FROM pragma_foreign_key_list(?) g WHERE g.id = f.id) = 1`, s.name, s.name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var from, to, key string
		if err := rows.Scan(&from, &to, &key); err != nil {
			return err
		}
		if i := slices.IndexFunc(s.fields, func(f field) bool { return f.name == from }); i >= 0 {
			s.fields[i].refers, s.fields[i].refersKey = to, key
			s.fields[i].nav = strings.TrimSuffix(from, "_id") + "_of"
		}
	}
	return rows.Err()
}

func (s *set) alternate(ctx context.Context, db *sql.DB) error {
	names, err := column(ctx, db,
		`SELECT name FROM pragma_index_list(?) WHERE "unique" AND origin = 'u' AND NOT partial ORDER BY seq DESC`, s.name)
	if err != nil {
		return err
	}
	for _, name := range names {
		columns, err := column(ctx, db, `SELECT name FROM pragma_index_info(?) WHERE name IS NOT NULL ORDER BY seqno`, name)
		if err != nil {
			return err
		}
		s.unique = append(s.unique, columns)
	}
	return nil
}

// linkUp makes a navigation between many and many of a table that is nothing else.
func linkUp(sets map[string]*set, s *set) {
	if len(s.fields) != 2 || len(s.key) != 2 || s.fields[0].refers == "" || s.fields[1].refers == "" {
		return
	}
	a, b := s.fields[0], s.fields[1]
	from, to := sets[a.refers], sets[b.refers]
	if from == nil || to == nil || len(from.key) != 1 || len(to.key) != 1 {
		return
	}
	from.links = append(from.links, link{nav: b.refers + "_linked", table: s.name, from: a.name, to: b.name, target: to.name,
		targetKey: to.key[0], partner: a.refers + "_linked"})
	to.links = append(to.links, link{nav: a.refers + "_linked", table: s.name, from: b.name, to: a.name, target: from.name,
		targetKey: from.key[0], partner: b.refers + "_linked"})
	delete(sets, s.name)
}

func (s *set) field(name string) (field, bool) {
	i := slices.IndexFunc(s.fields, func(f field) bool { return f.name == name })
	if i < 0 {
		return field{}, false
	}
	return s.fields[i], true
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// at gives what a property is in a statement.
func (s *set) at(name string) string {
	if s.rowID && name == RowID {
		return "rowid"
	}
	return quote(name)
}

func (s *set) typeName() string { return "Lab." + s.name + "_type" }

// metadata describes the sets in XML.
func metadata(sets map[string]*set, names []string, batch bool) string {
	var out strings.Builder
	out.WriteString(`<?xml version="1.0" encoding="UTF-8"?>
<edmx:Edmx Version="4.01" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="Lab" xmlns="http://docs.oasis-open.org/odata/ns/edm">
`)
	for _, name := range names {
		sets[name].describe(&out, sets)
	}
	out.WriteString("<EntityContainer Name=\"Setup\">\n")
	for _, name := range names {
		s := sets[name]
		fmt.Fprintf(&out, "<EntitySet Name=%q EntityType=%q>", s.name, s.typeName())
		for _, f := range s.fields {
			if sets[f.refers] != nil {
				fmt.Fprintf(&out, "<NavigationPropertyBinding Path=%q Target=%q/>", f.nav, f.refers)
			}
		}
		for _, l := range s.links {
			fmt.Fprintf(&out, "<NavigationPropertyBinding Path=%q Target=%q/>", l.nav, l.target)
		}
		out.WriteString("</EntitySet>\n")
	}
	fmt.Fprintf(&out,
		"<Annotation Term=\"Org.OData.Capabilities.V1.BatchSupported\" Bool=\"%t\"/>\n</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>\n", batch)
	return out.String()
}

// describe writes the type of a set.
func (s *set) describe(out *strings.Builder, sets map[string]*set) {
	fmt.Fprintf(out, "<EntityType Name=%q><Key>", s.name+"_type")
	for _, key := range s.key {
		fmt.Fprintf(out, "<PropertyRef Name=%q/>", key)
	}
	out.WriteString("</Key>\n")
	s.describeProperties(out)
	s.describeNavigation(out, sets)
	if len(s.unique) > 0 {
		out.WriteString(`<Annotation Term="Org.OData.Core.V1.AlternateKeys"><Collection>`)
		for _, key := range s.unique {
			out.WriteString(`<Record><PropertyValue Property="Key"><Collection>`)
			for _, name := range key {
				fmt.Fprintf(out,
					`<Record><PropertyValue Property="Name" PropertyPath=%q/><PropertyValue Property="Alias" String=%q/></Record>`, name, name)
			}
			out.WriteString(`</Collection></PropertyValue></Record>`)
		}
		out.WriteString("</Collection></Annotation>\n")
	}
	out.WriteString("</EntityType>\n")
}

func (s *set) describeProperties(out *strings.Builder) {
	for _, f := range s.fields {
		if f.navOnly {
			continue
		}
		fmt.Fprintf(out, "<Property Name=%q Type=%q Nullable=\"%t\"", f.name, f.edm, f.nullable)
		if f.length > 0 {
			fmt.Fprintf(out, " MaxLength=\"%d\"", f.length)
		}
		if f.precision > 0 {
			fmt.Fprintf(out, " Precision=\"%d\" Scale=\"%d\"", f.precision, f.scale)
		} else if f.edm == "Edm.Decimal" {
			out.WriteString(` Scale="variable"`)
		}
		out.WriteString(">")
		if f.computed {
			out.WriteString(`<Annotation Term="Org.OData.Core.V1.Computed" Bool="true"/>`)
		}
		if f.once {
			out.WriteString(`<Annotation Term="Org.OData.Core.V1.Immutable" Bool="true"/>`)
		}
		if f.hasValue {
			out.WriteString(`<Annotation Term="Org.OData.Core.V1.ComputedDefaultValue" Bool="true"/>`)
		}
		out.WriteString("</Property>\n")
	}
}

func (s *set) describeNavigation(out *strings.Builder, sets map[string]*set) {
	for _, f := range s.fields {
		if to := sets[f.refers]; to != nil {
			if f.navOnly {
				fmt.Fprintf(out, "<NavigationProperty Name=%q Type=%q Nullable=\"%t\"/>\n", f.nav, to.typeName(), f.nullable)
				continue
			}
			key := f.refersKey
			if key == "" {
				key = to.key[0]
			}
			fmt.Fprintf(out,
				"<NavigationProperty Name=%q Type=%q Nullable=\"%t\"><ReferentialConstraint Property=%q ReferencedProperty=%q/></NavigationProperty>\n", f.nav, to.typeName(), f.nullable, f.name, key)
		}
	}
	for _, l := range s.links {
		fmt.Fprintf(out, "<NavigationProperty Name=%q Type=\"Collection(%s)\" Partner=%q/>\n", l.nav, sets[l.target].typeName(), l.partner)
	}
}
