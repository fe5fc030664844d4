// Package draft makes a first catalog from what an environment tells about itself and
// from a look at its data.
//
// The contract: what the environment states (primary keys, unique indexes, foreign
// keys) is taken as it is; everything else is a guess and carries its reason, so that a
// person can confirm or correct it. Columns whose names are those of secrets are never looked at.
// The same facts give the same draft.
package draft

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
)

// Asker answers questions about data. Every answer is about a bounded part of it.
type Asker interface {
	// Rows counts the rows of a place; many says that there are more.
	Rows(place string) (n int, many bool, err error)
	// Distinct counts the different values of columns together. Records in which a column
	// is null do not count, but for those that may be null.
	Distinct(place string, columns, nullable []string) (int, error)
	// Sample gives some values of a column.
	Sample(place, column string) ([]string, error)
	// Resolves reports whether all values of a column are in another place's column.
	Resolves(place, column, to, toColumn string) (bool, error)
}

// Draft is a first catalog.
type Draft struct {
	Types   []*Type // by place
	Areas   []Area
	LeftOut []Noted // places that no type was made for, with the reason
}

// Area is a proposed group of record types.
type Area struct {
	Name  string
	Types []string
	Why   string
}

// Noted is a name with the reason for what was done with it; "" is stated by the
// environment, not guessed.
type Noted struct{ Name, Why string }

// Type is a proposed record type.
type Type struct {
	Name, Place string
	ID          Noted
	MadeBy      string // "" where the database gives ids
	Counter     *Counter
	Key         []string
	KeyWhy      string
	Refers      []Reference
	PartOf      Noted
	StampAt     string
	StampBy     string
	Ignore      []Noted
	Local       []Noted
	Secret      []Noted
	Files       []string
	Retired     string
	RetiredAs   []string
	Title       string

	place catalog.Place
}

// Reference is a field that points at a record.
type Reference struct {
	Field, To string
	Why       string         // "" for a foreign key
	Column    string         // what the foreign key points at, where that is not the internal id
	Columns   []catalog.Pair // of a foreign key of several columns
}

var (
	localName   = regexp.MustCompile(`(?i)(^|_)(url|uri|host|hostname|server|endpoint|ip|port|path|dir|directory|folder|smtp|ldap)($|_)|address$`)
	localValue  = regexp.MustCompile(`^([a-z][a-z0-9+.-]*://\S+|/\S+/\S*|[A-Za-z]:\\\S+|\\\\\S+|\d{1,3}(\.\d{1,3}){3}(:\d+)?)$`)
	changedAt   = regexp.MustCompile(`(?i)^(updated|modified|changed|last_?(update|updated|change|changed|modified)|date_?(updated|modified|changed)|(update|modify|modification|change)_?(time|date))(_?(at|on|date|time|ts))?$|^tms$`)
	changedBy   = regexp.MustCompile(`(?i)^(updated|modified|changed|last_?(update|updated|changed|modified))_?by(_?id)?$|^(update|modify|fk_user_modif|edit)_?user(_id)?$`)
	createdWhen = regexp.MustCompile(`(?i)^(created|inserted|creation|date_?creat\w*|datec|add(ed)?)(_?(at|on|by|date|time|ts|user))?(_?id)?$|^(create|creation|insert)_?(time|date|user)$`)
	derivedName = regexp.MustCompile(`(?i)^(lft|rgt|lftval|rgtval|tree_?(left|right|depth|path)|nested_?(left|right)|child_?count)$`)
	logName     = regexp.MustCompile(`(?i)(^|_)(log|logs|audit|history|event|events|session|sessions|queue|job|jobs|cache|tmp|temp|migration|migrations|journal|transaction|transactions)($|_)`)
	codeName    = regexp.MustCompile(`(?i)(^|_)(code|key|number|no|ref|slug|symbol|abbreviation|short_?name|identifier|login|username)_?$`)
	nameName    = regexp.MustCompile(`(?i)(^|_)(name|title|label|description)$`)
	randomName  = regexp.MustCompile(`(?i)uuid|guid|hash|token|checksum`)
	retiredName = regexp.MustCompile(`(?i)^(retired|obsolete|inactive|archived|deleted|disabled|is_(retired|obsolete|inactive|archived|deleted|disabled))$`)
)

// Make drafts a catalog.
func Make(places map[string]catalog.Place, ask Asker) (*Draft, error) {
	m := &maker{ask: ask, byPlace: map[string]*Type{}, draft: &Draft{}, counter: findCounter(places)}
	names := m.names(places)
	for _, place := range slices.Sorted(maps.Keys(places)) {
		p := places[place]
		leave, err := m.leave(p)
		if err != nil {
			return nil, err
		}
		if leave != "" {
			m.draft.LeftOut = append(m.draft.LeftOut, Noted{place, leave})
			continue
		}
		t := &Type{Name: names[place], Place: place, place: p, ID: internalID(p)}
		m.byPlace[place] = t
		m.draft.Types = append(m.draft.Types, t)
	}
	for _, t := range m.draft.Types {
		if err := m.describe(t); err != nil {
			return nil, err
		}
	}
	for _, t := range slices.Clone(m.draft.Types) {
		if err := m.findKey(t); err != nil {
			return nil, err
		}
	}
	m.dropKeyless()
	for _, t := range m.draft.Types {
		m.findOwner(t)
		m.madeBy(t)
	}
	if err := m.draft.sort(); err != nil {
		return nil, err
	}
	m.draft.Areas = areas(m.draft.Types)
	return m.draft, nil
}

// sort puts the types into dependency order, as catalog show will list them.
func (d *Draft) sort() error {
	if len(d.Types) == 0 {
		return nil
	}
	c, err := catalog.Parse("draft", d.YAML(""))
	if err != nil {
		return err
	}
	at := map[string]int{}
	for i, name := range c.Names() {
		at[name] = i
	}
	slices.SortFunc(d.Types, func(a, b *Type) int { return at[a.Name] - at[b.Name] })
	return nil
}

type maker struct {
	ask     Asker
	byPlace map[string]*Type
	draft   *Draft
	counter *Counter
}

// names makes a type's name of a place's: without its schema, in the singular.
func (m *maker) names(places map[string]catalog.Place) map[string]string {
	out, taken := map[string]string{}, map[string]bool{}
	for _, place := range slices.Sorted(maps.Keys(places)) {
		_, bare, ok := strings.Cut(place, ".")
		if !ok {
			bare = place
		}
		plain := func(s string) string {
			s = regexp.MustCompile(`[^A-Za-z0-9_-]+`).ReplaceAllString(s, "_")
			if s == "" || !regexp.MustCompile(`^[A-Za-z]`).MatchString(s) {
				s = "t_" + s
			}
			return s
		}
		for _, candidate := range []string{plain(Singular(strings.ToLower(bare))), plain(strings.ToLower(bare)), plain(place)} {
			if !taken[candidate] {
				out[place], taken[candidate] = candidate, true
				break
			}
		}
	}
	return out
}

// Singular gives the singular of a table's name, as English forms it.
func Singular(s string) string {
	switch {
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

// leave says why no record type is made for a place, "" where one is.
func (m *maker) leave(p catalog.Place) (string, error) {
	if p.ReadOnly {
		return "a view, which is only read", nil
	}
	rows, many, err := m.ask.Rows(p.Name)
	if err != nil {
		return "", err
	}
	switch {
	case many:
		return fmt.Sprintf("more than %d rows: transactions rather than setup", rows), nil
	case rows >= growingRows && grows(p):
		return fmt.Sprintf("%d rows, each stamped when it was made, and nothing unique but its internal id: it grows with use", rows), nil
	case m.counter != nil && m.counter.Place == p.Name:
		return "it counts the internal ids of other tables", nil
	case logName.MatchString(p.Name):
		return "the name is that of a log or of passing data", nil
	}
	return "", nil
}

// growingRows is from how many rows on a place without a key is taken to grow with use.
const growingRows = 2_000

// grows reports whether a place looks like one that every use adds to.
func grows(p catalog.Place) bool {
	stamped := slices.ContainsFunc(p.Columns, func(c catalog.Column) bool { return isTime(c) && createdWhen.MatchString(c.Name) })
	id := internalID(p).Name
	unique := slices.ContainsFunc(p.Unique, func(columns []string) bool { return !slices.Contains(columns, id) })
	return stamped && !unique && (id != "" || len(p.Primary) == 0)
}
