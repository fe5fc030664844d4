package catalog

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
)

// Column is one column of a place as an environment describes it.
type Column struct {
	Name         string
	Kind         record.Kind // Null where the environment cannot tell
	Declared     string      // the environment's own word for its type
	Element      record.Kind // of a list: the kind of what it holds, else Null
	Required     bool        // null is refused
	Default      bool        // the environment fills it where it is left out
	Derived      bool        // computed or given by the environment, never written
	Once         bool        // it is given when a record is made, and never after
	Given        bool        // of a derived one: a number of the environment's own
	RefersTo     string      // place that a foreign key points at, "" for none
	RefersColumn string      // the column there, "" for its primary key
	Follows      bool        // it changes by itself when the value there does
	InnerID      bool        // alone the place's primary key
	Waits        bool        // what it refers to need not be there before the commit
	Unreadable   bool        // the account may not read it
	NoEquality   bool        // the environment cannot be asked for rows with a value in it
	Loose        bool        // values that differ here can be the same to the environment, as in case
	Limits       Limits      // what fits, as far as the environment holds to it
}

// Limits say which values an environment takes into a column. Zero members do not limit.
type Limits struct {
	Characters    int
	Bytes         int      // of UTF-8
	Digits, Scale int      // of a decimal: all digits, and those after the point
	Least, Most   string   // of a whole number
	OneOf         []string // of an enumeration
	AnyOf         []string // of a set, whose members are joined by commas
	Units         int      // characters in UTF-16, as cells of a workbook count them
	Significant   int      // of a number: digits from the first to the last that is not 0
	// FirstDay and LastDay are the days that a cell for dates holds, as 2006-01-02.
	FirstDay, LastDay string
}

// Place is a table or a file as an environment describes it.
type Place struct {
	Name     string
	Columns  []Column
	ReadOnly bool
	Primary  []string   // columns of the primary key
	Unique   [][]string // columns that the place holds unique together, the primary key left out
	// Partly are columns that are unique together among a part of the rows only.
	Partly []PartlyUnique
	// NoRollback says that what is written there cannot be taken back.
	NoRollback bool
	// CannotInsert, CannotUpdate and CannotDelete say that the account has no right to.
	CannotInsert, CannotUpdate, CannotDelete bool
	Foreign                                  []ForeignKey // of several columns; others stand with their column
	Directory                                bool         // the environment is one of people, who are what it is for
	Inherited                                bool         // it shows rows of other tables too, for which its keys do not hold
	HasTriggers                              bool         // that may change what is written
	AnyTrigger                               bool         // that may do something else when it is written
	NoBulk                                   bool         // adding many rows at once would pass over its rules
	Quiet                                    bool         // a change of a row makes nothing else happen, and the environment would show it
	Triggered                                []string     // columns that triggers fill, as far as can be told
	Rules                                    []Rule       // conditions that each row has to meet
}

// PartlyUnique are columns that a place holds unique together among the rows in which a field
// is null, is not null (as Retired.When says), or has a value.
type PartlyUnique struct {
	Columns []string
	Field   string
	When    string // null or not null; "" goes by Value
	Value   string // as it stands in the environment
}

// Rule is a condition on the values of a row that an environment holds to. Null meets it.
type Rule struct {
	Name    string
	Text    string   // in the environment's own language
	Columns []string // that it is about
}

// ForeignKey is a reference of several columns that the environment holds to.
type ForeignKey struct {
	To    string // place
	Pairs []Pair
}

// Column finds a column by name.
func (p Place) Column(name string) (Column, bool) {
	i := slices.IndexFunc(p.Columns, func(c Column) bool { return c.Name == name })
	if i < 0 {
		return Column{}, false
	}
	return p.Columns[i], true
}

// Problem is something in which a catalog does not hold in an environment.
type Problem struct {
	Type    string
	Line    int // in the catalog
	Message string
	// Missing is set where the whole place is not there: the type cannot be compared,
	// which may be so on one side only.
	Missing bool
	// Caution is set where the catalog holds all the same.
	Caution bool
}

// Fit is a catalog seen against one environment: kinds are known.
type Fit struct {
	Shapes   record.Shapes             // key fields of each type
	Fields   map[string][]record.Field // other carried fields of each type, by name
	Problems []Problem
}

// Fits compares the catalog with the places of an environment. A type whose place
// is missing or whose description does not hold has no Fields; the Problems say why.
//
// Broken gives why a place that is not among them is there and cannot be read, "" where it is
// not; nil where there are none such.
func (c *Catalog) Fits(environment string, places map[string]Place, broken func(place string) string) Fit {
	fit := Fit{Shapes: record.Shapes{}, Fields: map[string][]record.Field{}}
	for _, t := range c.Types {
		place, ok := places[t.Place(environment)]
		if !ok {
			fit.Problems = append(fit.Problems, absent(t, environment, places, broken))
			continue
		}
		problems := append(problemsOf(t, c, environment, place), personProblems(t, environment, places)...)
		fit.Problems = append(fit.Problems, problems...)
		if slices.ContainsFunc(problems, func(p Problem) bool { return !p.Caution }) {
			continue
		}
		fit.Fields[t.Name] = t.fields(place)
	}
	for _, t := range c.Types {
		place, ok := places[t.Place(environment)]
		if !ok {
			continue
		}
		fit.Shapes[t.Name] = t.shape(place)
	}
	return fit
}

// absent says that a type's place is not there, or cannot be read.
func absent(t *Type, environment string, places map[string]Place, broken func(place string) string) Problem {
	place := t.Place(environment)
	if broken != nil && broken(place) != "" {
		return Problem{Type: t.Name, Line: t.line("at"), Message: fmt.Sprintf("%s cannot read %q: %s", environment, place, broken(place))}
	}
	return Problem{Type: t.Name, Line: t.line("at"), Missing: true, Message: fmt.Sprintf("%s has nothing called %q%s", environment, place,
		yamldoc.Nearest(place, slices.Sorted(maps.Keys(places))))}
}

func (t *Type) field(column Column) record.Field {
	f := record.Field{Name: column.Name, Kind: column.Kind, Required: column.Required, Rule: t.Rules[column.Name]}
	if slices.Contains(t.Key, column.Name) && f.Kind == record.Bytes {
		f.Kind = record.Text // in hexadecimal, as bytes themselves are not at hand to compare
	}
	if kind, ok := t.As[column.Name]; ok {
		f.Kind = kind
	}
	if f.Kind == record.Null {
		f.Kind = record.Text
	}
	if ref, ok := t.Refers[column.Name]; ok {
		ref.field(&f)
	}
	return f
}

// together gives the field that several columns make up.
func (t *Type) together(name string, place Place) record.Field {
	f := record.Field{Name: name, Required: true}
	t.Refers[name].field(&f)
	for _, pair := range t.Refers[name].Columns {
		column, _ := place.Column(pair.Here)
		f.Required = f.Required && column.Required
	}
	return f
}

// Known gives every field of a place that a condition may name, by name: all but the
// internal id and secret fields.
func (t *Type) Known(place Place) []record.Field {
	var fields []record.Field
	for _, column := range place.Columns {
		if column.Name != t.ID && !slices.Contains(t.Secret, column.Name) && !column.Unreadable {
			fields = append(fields, t.field(column))
		}
	}
	for _, name := range sortedNames(t.Refers) {
		if t.Refers[name].Columns != nil {
			fields = append(fields, t.together(name, place))
		}
	}
	return fields
}

// shape gives the fields of the key.
func (t *Type) shape(place Place) []record.Field {
	var fields []record.Field
	for _, name := range t.Key {
		if t.Refers[name].Columns != nil {
			fields = append(fields, t.together(name, place))
			continue
		}
		column, _ := place.Column(name)
		fields = append(fields, t.field(column))
	}
	return fields
}

// fields gives the carried fields that are not part of the key, by name, so that
// the order of a place's columns does not matter.
func (t *Type) fields(place Place) []record.Field {
	fields := []record.Field{}
	for _, column := range place.Columns {
		if !column.Derived && t.Carried(column.Name) && !slices.Contains(t.Key, column.Name) && !takenUp(t, column.Name) {
			fields = append(fields, t.field(column))
		}
	}
	for _, name := range sortedNames(t.Refers) {
		if t.Refers[name].Columns != nil && t.Carried(name) && !slices.Contains(t.Key, name) {
			fields = append(fields, t.together(name, place))
		}
	}
	slices.SortFunc(fields, func(a, b record.Field) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return fields
}

func problemsOf(t *Type, c *Catalog, environment string, place Place) []Problem {
	s := seenIn{t: t, c: c, environment: environment, place: place}
	s.named()
	s.compared()
	return s.found
}

// personProblems says where the people are not whose ids stand in stamps.
func personProblems(t *Type, environment string, places map[string]Place) []Problem {
	p := t.StampPerson
	if p.At == "" {
		return nil
	}
	people, ok := places[p.At]
	if !ok {
		return []Problem{{Type: t.Name, Line: t.line("stamp", "person"),
			Message: fmt.Sprintf("%s has nothing called %q for the people in stamps%s", environment, p.At,
				yamldoc.Nearest(p.At, slices.Sorted(maps.Keys(places))))}}
	}
	s := seenIn{t: t, environment: environment, place: people}
	for _, field := range []string{p.ID, p.Name} {
		s.need("field of person:", field, "stamp", "person")
		if c, _ := people.Column(field); c.Unreadable {
			s.say([]string{"stamp", "person"}, "the account may not read %s of %s in %s; ask for the right, or leave person: out",
				field, p.At, environment)
		}
	}
	return s.found
}

// retired refuses values that the field cannot have: nothing would ever be out of use.
func (s *seenIn) retired() {
	r := s.t.Retired
	c, ok := s.place.Column(r.Field)
	if !ok {
		return
	}
	kind := s.t.field(c).Kind
	for _, value := range r.Values {
		bad := ""
		switch _, err := record.Parse(kind, value); {
		case kind == record.Reference || kind == record.Woven:
		case kind == record.Boolean && value != "true" && value != "false":
			bad = "which is true or false"
		case len(c.Limits.OneOf) > 0 && !slices.Contains(c.Limits.OneOf, value):
			bad = "which is one of " + strings.Join(c.Limits.OneOf, ", ")
		case err != nil:
			bad = "which holds values of the kind " + kind.String()
		case c.Limits.Characters > 0 && kind == record.Text && len([]rune(value)) > c.Limits.Characters:
			bad = fmt.Sprintf("which takes at most %d characters", c.Limits.Characters)
		}
		if bad != "" {
			s.say([]string{"retired", "values"}, "%q can never stand in %s of %s in %s, %s; correct values: under retired:", value,
				r.Field, s.place.Name, s.environment, bad)
		}
	}
	if r.When != "" && c.Required {
		s.say([]string{"retired", "when"},
			"%s of %s in %s is never null, so when: %s says nothing; name the values under values: instead", r.Field, s.place.Name,
			s.environment, r.When)
	}
}

// seenIn looks at a type in one environment.
type seenIn struct {
	t           *Type
	c           *Catalog
	environment string
	place       Place
	found       []Problem
}

func (s *seenIn) say(path []string, format string, args ...any) {
	s.found = append(s.found, Problem{Type: s.t.Name, Line: s.t.line(path...), Message: fmt.Sprintf(format, args...)})
}

// need says where a field that the catalog names is not there.
func (s *seenIn) need(what, field string, path ...string) {
	if _, ok := s.place.Column(field); field == "" || ok {
		return
	}
	names := make([]string, len(s.place.Columns))
	for i, column := range s.place.Columns {
		names[i] = column.Name
	}
	s.say(path, "%s %q is not in %s of %s%s", what, field, s.place.Name, s.environment, yamldoc.Nearest(field, names))
}

// may is need for what one environment may have and the other not.
func (s *seenIn) may(what, field string, path ...string) {
	before := len(s.found)
	s.need(what, field, path...)
	for n := range s.found[before:] {
		s.found[before+n].Caution = true
	}
}

// named looks for every field that the catalog names.
func (s *seenIn) named() {
	t := s.t
	for i, field := range t.Key {
		if t.Refers[field].Columns == nil {
			s.need("key field", field, "key", fmt.Sprint(i))
			if column, _ := s.place.Column(field); column.NoEquality {
				s.say([]string{"key", fmt.Sprint(i)},
					"key field %q is of type %s in %s, which %s cannot be asked for; name another field", field, column.Declared,
					s.place.Name, s.environment)
			}
		}
	}
	s.need("internal id", t.ID, "id")
	s.need("stamp field", t.StampAt, "stamp", "at")
	s.need("stamp field", t.StampBy, "stamp", "by")
	s.need("stamp field", t.CreatedAt, "stamp", "created_at")
	s.need("stamp field", t.CreatedBy, "stamp", "created_by")
	s.need("title field", t.Title, "title")
	s.need("retired field", t.Retired.Field, "retired", "field")
	s.retired()
	for _, field := range sortedNames(t.Refers) {
		for _, column := range t.Stored(field) {
			s.need("reference", column, "refers", field)
		}
		s.need("choosing field", t.Refers[field].Chooser, "refers", field)
	}
	if t.Only != "" {
		if _, err := condition.Compile(t.Only, t.Name, t.Known(s.place)); err != nil {
			s.say([]string{"only"}, "in %s: %v", s.environment, err)
		}
	}
	for _, field := range sortedNames(t.Local) {
		s.may("local field", field, "local", field)
	}
	for _, field := range sortedNames(t.As) {
		s.need("field", field, "as", field)
	}
	// One environment may have a column that the other has not.
	for i, field := range append(slices.Clone(t.Ignore), t.Derived...) {
		list := "ignore"
		if i >= len(t.Ignore) {
			list, i = "derived", i-len(t.Ignore)
		}
		s.may("field under "+list+":", field, list, fmt.Sprint(i))
	}
	for i, field := range t.Secret {
		s.may("field under secret:", field, "secret", fmt.Sprint(i))
	}
	for i, field := range t.Files {
		s.need("field under files:", field, "files", fmt.Sprint(i))
	}
	for _, field := range sortedNames(t.Rules) {
		s.need("field with a comparison rule", field)
	}
	for i, field := range t.Plain {
		s.may("field under plain:", field, "plain", fmt.Sprint(i))
	}
	for i, set := range t.Unique {
		for _, field := range set {
			if t.Refers[field].Columns == nil {
				s.need("field under unique:", field, "unique", fmt.Sprint(i))
			}
		}
	}
}

// compared looks at what is there and would be compared though it should not.
func (s *seenIn) compared() {
	t := s.t
	for _, column := range s.place.Columns {
		needed := t.Carried(column.Name) && !column.Derived || column.Name == t.ID
		if column.Unreadable && needed {
			s.say(nil, "the account may not read %s of %s in %s; ask for the right, or put the field under ignore:", column.Name,
				s.place.Name, s.environment)
		}
		_, refers := t.Refers[column.Name]
		compared := t.Carried(column.Name) && !refers && !column.Derived && !takenUp(t, column.Name)
		if !compared || slices.Contains(t.Key, column.Name) {
			continue
		}
		if column.InnerID {
			s.say(nil, "%s is the primary key of %s in %s and would be compared; name it as id: or as key:", column.Name,
				s.place.Name, s.environment)
		}
		if to := s.c.at(s.environment, column.RefersTo); column.RefersTo != "" && to != "" {
			s.say([]string{"refers"},
				"%s of %s in %s points at %s by internal id, which differs in every environment; add refers: {%s: %s}, or put it under ignore:",
				column.Name, s.place.Name, s.environment, column.RefersTo, column.Name, to)
		}
	}
}

// at finds the record type that lives at a place.
func (c *Catalog) at(environment, place string) string {
	for _, t := range c.Types {
		if t.Place(environment) == place {
			return t.Name
		}
	}
	return ""
}
