// Package draft makes a first catalog from what one or two environments tell about
// themselves and from a look at their data.
//
// The contract: what an environment states (primary keys, unique indexes, foreign keys) is
// taken as it is; everything else is a guess and carries its reason, so that a person can
// confirm or correct it. Two environments of one application hold mostly the same setup under
// other numbers: what meets by a key and then agrees on both sides is no guess any more.
// Columns whose names are those of secrets are never looked at. Nothing is dropped in silence:
// what no type was made for, and what is not sure, stands in Notes. The same facts give the
// same draft.
package draft

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/pattern"
	"anagram/internal/core/yamldoc"
)

// Sight is one environment as a draft sees it.
type Sight struct {
	Name   string
	Places map[string]catalog.Place
	// Look gives what is to be seen of some columns of a place.
	Look func(place string, columns []string) (*evidence.Table, error)
}

// Wish says what a person wants of a draft whatever the data say.
type Wish struct {
	With    []string // places to make types for
	Without []string // places to leave out
}

// Draft is a first catalog.
type Draft struct {
	Types []*Type // in dependency order
	Areas []Area
	// Notes are what no type was made for and what is not sure, each place once, by place.
	Notes []Note
	From  []string // the environments that were looked at
}

// Area is a proposed group of record types.
type Area struct {
	Name  string
	Types []string
	Why   string
}

// Note says what became of a place.
type Note struct {
	Place string
	Type  string // the record type that was made all the same, "" where it was left out
	Rows  []int  // in each environment, -1 where it is not there
	Why   string
}

// Noted is a name with the reason for what was done with it; "" is stated by the
// environment, not guessed. Sure says that the data of both sides confirm it.
type Noted struct {
	Name, Why string
	Sure      bool
}

// Type is a proposed record type.
type Type struct {
	Name, Place string
	ID          Noted
	MadeBy      string // "" where the database gives ids
	Counter     *Counter
	Key         []string
	KeyWhy      string
	KeySure     bool
	Only        Noted // a condition
	Refers      []Reference
	PartOf      Noted
	StampAt     string
	StampBy     string
	CreatedAt   string
	CreatedBy   string
	Person      *Person
	Ignore      []Noted
	Derived     []Noted
	Local       []Noted
	Secret      []Noted
	Files       []string
	Retired     Retired
	Title       string

	place catalog.Place
	seen  []*evidence.Table // by environment, nil where there is nothing to be seen
	rows  []int             // by environment, -1 where the place is not there
	leave string            // why no record type is to be made, "" where one is
	score score
	found string // what is not sure
	part  *catalog.PartlyUnique
	ways  []string // other keys and what they would do
}

// Retired is what tells a record that was taken out of use.
type Retired struct {
	Field, When string
	Values      []string
	Why         string
}

// Person says where the people are whose ids stand in stamps.
type Person struct{ Place, ID, Name string }

// Reference is a field that points at records.
type Reference struct {
	Field, To string
	Why       string // "" for a foreign key
	Sure      bool
	Column    string         // what the foreign key points at, where that is not the internal id
	Columns   []catalog.Pair // of a foreign key of several columns
	None      []string       // values that stand for no reference
	Chooser   string         // the field that says which type it is, by Words
	Words     map[string]string
	// Form and Text say how ids stand within the value: list, pattern or path.
	Form, Text string
}

// Make drafts a catalog from one or two environments, the source first.
func Make(sights []Sight, wish Wish) (*Draft, error) {
	m := &maker{sights: sights, wish: wish, byPlace: map[string]*Type{}, draft: &Draft{}}
	for _, s := range sights {
		m.draft.From = append(m.draft.From, s.Name)
	}
	places := m.places()
	m.counter = findCounter(places)
	names := m.names(places)
	for _, place := range slices.Sorted(maps.Keys(places)) {
		t := &Type{Name: names[place], Place: place, place: places[place], ID: internalID(places[place])}
		if err := m.look(t); err != nil {
			return nil, err
		}
		m.byPlace[place] = t
		if p := places[place]; p.ReadOnly {
			t.leave = "a view, which is only read"
		}
		m.all = append(m.all, t)
	}
	for _, t := range m.all {
		t.leave = m.atFirst(t)
		m.pointedAt(t)
	}
	for _, t := range m.all {
		m.describe(t)
	}
	for _, t := range m.all {
		m.chosen(t)
	}
	m.findKeys()
	for _, t := range m.all {
		m.otherID(t)
		m.byMeeting(t)
	}
	m.leaveOut()
	for _, t := range m.draft.Types {
		m.inside(t)
		m.unknownIDs(t)
		m.ownEverywhere(t)
		m.again(t)
		m.pointsOutside(t)
		m.findOwner(t)
		m.madeBy(t)
	}
	if err := m.sort(); err != nil {
		return nil, err
	}
	m.draft.Areas = areas(m.draft.Types)
	m.notes()
	return m.draft, nil
}

// sort puts the types into dependency order, as catalog show will list them. What a catalog
// cannot describe is left out with what needs it, and said.
func (m *maker) sort() error {
	d := m.draft
	for len(d.Types) > 0 {
		c, err := catalog.Parse("draft", d.YAML())
		if err == nil {
			d.order(c)
			return nil
		}
		t := m.typeAt(err)
		if t == nil {
			return err
		}
		var wrong *yamldoc.Error
		_ = errors.As(err, &wrong)
		t.leave = "a catalog cannot describe it: " + wrong.Message
		d.Types = nil
		m.hanging()
	}
	return nil
}

// typeAt finds the type at whose lines a draft cannot be read.
func (m *maker) typeAt(err error) *Type {
	var wrong *yamldoc.Error
	if !errors.As(err, &wrong) || wrong.Line == 0 {
		return nil
	}
	lines := strings.Split(string(m.draft.YAML()), "\n")
	for n := min(wrong.Line, len(lines)) - 1; n >= 0; n-- {
		name, ok := strings.CutSuffix(strings.TrimPrefix(lines[n], "  "), ":")
		if ok && strings.HasPrefix(lines[n], "  ") && !strings.HasPrefix(lines[n], "   ") {
			if t := m.typeNamed(strings.Trim(name, `"`)); t != nil && t.leave == "" {
				return t
			}
		}
	}
	return nil
}

func (d *Draft) order(c *catalog.Catalog) {
	at := map[string]int{}
	for i, name := range c.Names() {
		at[name] = i
	}
	slices.SortFunc(d.Types, func(a, b *Type) int { return at[a.Name] - at[b.Name] })
}

type maker struct {
	sights  []Sight
	wish    Wish
	all     []*Type // by place, those that are left out too
	byPlace map[string]*Type
	draft   *Draft
	counter *Counter
	// keyOf gives by environment and type the key of each internal id, as numbers.
	keyOf []map[*Type]map[uint64]uint64
}

// places gives all that the environments have, as the first that has it describes it.
func (m *maker) places() map[string]catalog.Place {
	out := map[string]catalog.Place{}
	for _, s := range slices.Backward(m.sights) {
		maps.Copy(out, s.Places)
	}
	return out
}

// look reads what is to be seen of a type in each environment.
func (m *maker) look(t *Type) error {
	var columns []string
	for _, c := range t.place.Columns {
		if lookable(c) {
			columns = append(columns, c.Name)
		}
	}
	for _, s := range m.sights {
		p, there := s.Places[t.Place]
		if !there {
			t.seen, t.rows = append(t.seen, nil), append(t.rows, -1)
			continue
		}
		here := slices.DeleteFunc(slices.Clone(columns), func(name string) bool { c, ok := p.Column(name); return !ok || !lookable(c) })
		if p.ReadOnly || len(here) == 0 {
			t.seen, t.rows = append(t.seen, nil), append(t.rows, 0)
			continue
		}
		table, err := s.Look(t.Place, here)
		if err != nil {
			return err
		}
		t.rows = append(t.rows, table.Rows)
		if table.Read == 0 {
			table = nil
		}
		t.seen = append(t.seen, table)
	}
	return nil
}

// names makes a type's name of a place's: without its schema, in the singular.
var (
	notInNames  = pattern.Of(`[^A-Za-z0-9_-]+`)
	letterFirst = pattern.Of(`^[A-Za-z]`)
)

func (m *maker) names(places map[string]catalog.Place) map[string]string {
	out, taken := map[string]string{}, map[string]bool{}
	for _, place := range slices.Sorted(maps.Keys(places)) {
		_, bare, ok := strings.Cut(place, ".")
		if !ok {
			bare = place
		}
		plain := func(s string) string {
			s = notInNames.ReplaceAllString(s, "_")
			if s == "" || !letterFirst.MatchString(s) {
				s = "t_" + s
			}
			return s
		}
		candidates := []string{plain(Singular(strings.ToLower(bare))), plain(strings.ToLower(bare)), plain(place)}
		for n := 2; n < 10_000 && out[place] == ""; n++ {
			for _, candidate := range candidates {
				if !taken[candidate] {
					out[place], taken[candidate] = candidate, true
					break
				}
			}
			candidates = []string{fmt.Sprintf("%s_%d", plain(place), n)}
		}
	}
	return out
}

// Singular gives the singular of a table's name, as English forms it.
func Singular(s string) string {
	switch {
	case strings.HasSuffix(s, "elves"):
		return s[:len(s)-3] + "f"
	case strings.HasSuffix(s, "ies") && len(s) > 4:
		return s[:len(s)-3] + "y"
	case strings.HasSuffix(s, "sses"), strings.HasSuffix(s, "xes"), strings.HasSuffix(s, "ches"), strings.HasSuffix(s, "shes"):
		return s[:len(s)-2]
	case strings.HasSuffix(s, "ss"), strings.HasSuffix(s, "us"), strings.HasSuffix(s, "is"), len(s) < 4:
		return s
	default:
		return strings.TrimSuffix(s, "s")
	}
}

// doubtful notes something that a person has to look at.
func (t *Type) doubtful(text string) {
	if t.found != "" {
		t.found += "; "
	}
	t.found += text
}

// sides counts the environments that have records of a type.
func (t *Type) sides() (n int) {
	for _, s := range t.seen {
		if s != nil {
			n++
		}
	}
	return n
}

// most is the largest number of rows that a side has.
func (t *Type) most() int { return max(0, slices.Max(append([]int{0}, t.rows...))) }

// values gives what was seen in a column in one environment, nil where nothing was.
func (t *Type) values(side int, column string) *evidence.Column {
	if t.seen[side] == nil {
		return nil
	}
	return t.seen[side].Columns[column]
}

// some gives different texts of a column, of all sides.
func (t *Type) some(column string) (out []string) {
	for side := range t.seen {
		if c := t.values(side, column); c != nil {
			out = append(out, c.Some...)
		}
	}
	return out
}
