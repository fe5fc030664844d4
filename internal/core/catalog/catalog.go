package catalog

import (
	"slices"

	"anagram/internal/core/record"
)

// Catalog is the description of all record types.
type Catalog struct {
	Types  []*Type // in dependency order, see order.go
	Areas  []Area  // in the file's order
	Source []byte  // the file as it was read; goes into every parcel

	byName map[string]*Type
}

// Area is a named group of record types.
type Area struct {
	Name  string
	Types []string
}

// Type describes one record type. Field names are those of the environment.
type Type struct {
	Name    string
	At      map[string]string // place by environment name; "" is every other one
	Key     []string
	ID      string   // internal id, given by the environment; "" where there is none
	IDFrom  IDSource // where the internal id of a new record comes from
	Refers  map[string]Reference
	Only    string // condition (package condition) that its records fulfil; "" for all
	PartOf  string // owner's record type, "" where it has none
	Ignore  []string
	Secret  []string
	Files   []string
	Local   map[string]map[string]string // field -> environment -> value for new records
	Derived []string                     // fields that the application makes from others
	StampAt string
	StampBy string
	// CreatedAt and CreatedBy are stamps that a record gets once.
	CreatedAt, CreatedBy string
	StampPerson          Person            // where the people are whose ids stand in StampBy
	StampNever           bool              // an import never writes stamps
	StampAccount         map[string]string // environment -> what stands for imports in StampBy and CreatedBy
	Retired              Retired
	Title                string
	Plain                []string               // whole numbers that mean the same everywhere, whatever they look like
	Everywhere           []string               // fields that the catalog leaves out of every type that has them
	As                   map[string]record.Kind // kinds that the environment cannot tell
	Words                map[string]Words       // how a boolean is kept where it is kept in words
	Rules                map[string]record.Rule // how texts are compared
	Unique               [][]string             // fields that no two records may both have, beside those that the environment holds to

	line   func(path ...string) int
	layout []partLayout // of the key in addresses, field by field
}

// IDSource says where the internal id of a new record comes from. The zero value is:
// from the database itself.
type IDSource struct {
	MadeBy  string // "", largest (the largest so far plus one), uuid, or counter
	Counter Counter
}

// Counter is a row that keeps the last id that was given; it is kept in step.
type Counter struct {
	At    string            // table
	Last  string            // field with the last id
	Where map[string]string // the row, by the values of its fields
}

// Person says where people are listed whose ids stand in stamps: a place, the column with the
// id and the one with the name. The zero value is that stamps hold names.
type Person struct{ At, ID, Name string }

// Words are the two words of a boolean that is kept as a text or a number.
type Words struct{ True, False string }

// Retired tells which records an environment has taken out of use.
type Retired struct {
	Field  string
	Values []string
	When   string // null or not null; "" goes by Values
}

// Is reports whether a record with this value is out of use.
func (r Retired) Is(v record.Value) bool {
	switch r.When {
	case "null":
		return v.IsNull()
	case "not null":
		return !v.IsNull() && !v.IsAbsent()
	default:
		return slices.Contains(r.Values, v.Text())
	}
}

// Place gives where the type lives in an environment: a table, a file.
func (t *Type) Place(environment string) string {
	if place, ok := t.At[environment]; ok {
		return place
	}
	return t.At[""]
}

// OwnerField gives the field that refers to the owner of a part, or "".
func (t *Type) OwnerField() string {
	if t.PartOf == "" {
		return ""
	}
	owns := func(field string) bool { return t.Refers[field].One() == t.PartOf }
	if at := slices.IndexFunc(t.Key, owns); at >= 0 { // the usual case, of each record that is read
		return t.Key[at]
	}
	fields := sortedNames(t.Refers)
	if at := slices.IndexFunc(fields, owns); at >= 0 {
		return fields[at]
	}
	return ""
}

// Link reports whether the type only joins others: its key is two references or more.
func (t *Type) Link() bool {
	for _, field := range t.Key {
		if t.Refers[field].To == nil {
			return false
		}
	}
	return len(t.Key) > 1
}

// Carried reports whether a field travels and is compared, as far as the catalog
// tells: not the internal id, ignored, local, secret or a stamp.
func (t *Type) Carried(field string) bool {
	_, local := t.Local[field]
	return field != t.ID && !local && !t.IsStamp(field) && !slices.Contains(t.Derived, field) &&
		!t.Ignores(field) && !slices.Contains(t.Secret, field)
}

// Ignores reports whether a field is left alone, for this type or for all.
func (t *Type) Ignores(field string) bool {
	return slices.Contains(t.Ignore, field) || slices.Contains(t.Everywhere, field)
}

// IsStamp reports whether a field is a stamp.
func (t *Type) IsStamp(field string) bool {
	return field != "" && slices.Contains([]string{t.StampAt, t.StampBy, t.CreatedAt, t.CreatedBy}, field)
}

// Type finds a record type by name.
func (c *Catalog) Type(name string) (*Type, bool) {
	t, ok := c.byName[name]
	return t, ok
}

// Area finds an area by name.
func (c *Catalog) Area(name string) (Area, bool) {
	i := slices.IndexFunc(c.Areas, func(a Area) bool { return a.Name == name })
	if i < 0 {
		return Area{}, false
	}
	return c.Areas[i], true
}

// Names lists the record types in dependency order.
func (c *Catalog) Names() []string {
	names := make([]string, len(c.Types))
	for i, t := range c.Types {
		names[i] = t.Name
	}
	return names
}

// Line gives the line of the catalog at which the type stands, or something within it.
func (t *Type) Line(path ...string) int { return t.line(path...) }

// LocalFields lists the fields that belong to one environment, by name.
func (t *Type) LocalFields() []string { return sortedNames(t.Local) }

// ReferenceFields lists the fields that point at records, by name.
func (t *Type) ReferenceFields() []string { return sortedNames(t.Refers) }
