// Package draft makes a first catalog from what an environment tells about itself and
// from a look at its data.
//
// The contract: what the environment states (primary keys, unique indexes, foreign
// keys) is taken as it is; everything else is a guess and carries its reason, so that a
// person can confirm or correct it. Columns that look like secrets are never looked at.
// The same facts give the same draft.
package draft

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
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
	Why       string // "" for a foreign key
	Column    string // what the foreign key points at, where that is not the internal id
}

var (
	secretName  = regexp.MustCompile(`(?i)passw|passphrase|secret|token|api_?key|private_?key|credential|(^|_)(salt|pin|pwd)($|_)`)
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
	case m.counter != nil && m.counter.Place == p.Name:
		return "it counts the internal ids of other tables", nil
	case logName.MatchString(p.Name):
		return "the name is that of a log or of passing data", nil
	}
	return "", nil
}

// internalID recognises a number that one environment gives. A whole number that alone
// is the primary key is one unless its name says that people use it: records matched by
// an internal number would be the wrong ones.
func internalID(p catalog.Place) Noted {
	if len(p.Primary) != 1 {
		return Noted{}
	}
	c, _ := p.Column(p.Primary[0])
	lower := strings.ToLower(c.Name)
	idName := strings.HasSuffix(lower, "id") || lower == "pk" || lower == "oid"
	switch {
	case c.RefersTo != "":
		return Noted{} // one record for each of another type: the reference is the key
	case c.Kind == record.Integer && c.Default:
		return Noted{Name: c.Name}
	case c.Kind == record.Integer && (idName || !codeName.MatchString(c.Name)):
		return Noted{c.Name, "a whole number that alone is the primary key"}
	case idName && (randomName.MatchString(c.Name+c.Declared) || len(p.Unique) > 0):
		return Noted{c.Name, "the name is that of a made-up id"}
	}
	return Noted{}
}

// madeBy guesses where the id of a new record comes from, where not from the database:
// from a table of counters that names this one, a made-up value, or the largest so far.
func (m *maker) madeBy(t *Type) {
	c, ok := t.place.Column(t.ID.Name)
	switch {
	case !ok || c.Default:
	case c.Kind != record.Integer:
		t.MadeBy = "uuid"
	case m.counter != nil:
		t.Counter = m.counter
		t.MadeBy = "counter"
	default:
		t.MadeBy = "largest"
	}
}

// Counter is a table that keeps the last id of others, a row each.
type Counter struct{ Place, Table, Column, Last string }

var (
	counterName  = regexp.MustCompile(`(?i)^(ids|counters?|sequences?|id_?(generator|counter|sequence)s?|sequence_data|hibernate_sequences?)$`)
	counterTable = regexp.MustCompile(`(?i)table|entity|sequence_?name|^name$`)
	counterField = regexp.MustCompile(`(?i)field|column`)
	counterLast  = regexp.MustCompile(`(?i)next|last|current|value|counter`)
)

// findCounter looks for such a table by its name and columns.
func findCounter(places map[string]catalog.Place) *Counter {
	for _, name := range slices.Sorted(maps.Keys(places)) {
		if !counterName.MatchString(name) {
			continue
		}
		c := Counter{Place: name}
		for _, column := range places[name].Columns {
			switch {
			case column.Kind == record.Integer && counterLast.MatchString(column.Name):
				c.Last = column.Name
			case column.Kind == record.Text && counterField.MatchString(column.Name):
				c.Column = column.Name
			case column.Kind == record.Text && counterTable.MatchString(column.Name):
				c.Table = column.Name
			}
		}
		if c.Last != "" && c.Table != "" {
			return &c
		}
	}
	return nil
}

// describe sorts a type's columns: references, stamps, and what does not travel.
func (m *maker) describe(t *Type) error {
	for _, c := range t.place.Columns {
		if c.Name == t.ID.Name || c.Derived {
			continue
		}
		done, err := m.reference(t, c)
		if err != nil {
			return err
		}
		if done || slices.Contains(t.place.Primary, c.Name) {
			continue
		}
		switch {
		case c.Unreadable:
			t.Ignore = append(t.Ignore, Noted{c.Name, "the account may not read it"})
		case secretName.MatchString(c.Name):
			t.Secret = append(t.Secret, Noted{c.Name, "its name is that of a secret; it was not looked at"})
		case derivedName.MatchString(c.Name):
			t.Ignore = append(t.Ignore, Noted{c.Name, "the application computes it from a tree"})
		case changedAt.MatchString(c.Name) && isTime(c) && t.StampAt == "":
			t.StampAt = c.Name
		case changedBy.MatchString(c.Name) && t.StampBy == "":
			t.StampBy = c.Name
		case createdWhen.MatchString(c.Name):
			t.Ignore = append(t.Ignore, Noted{c.Name, "it says when or by whom the record was made"})
		case c.Kind == record.Bytes:
			t.Files = append(t.Files, c.Name)
		case retiredName.MatchString(c.Name) && t.Retired == "":
			t.Retired, t.RetiredAs = c.Name, []string{"true"}
			if c.Kind == record.Integer {
				t.RetiredAs = []string{"1"}
			}
		case c.Kind == record.Text:
			if err := m.look(t, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// look reads a few values of a text: addresses and paths belong to one environment.
func (m *maker) look(t *Type, c catalog.Column) error {
	if t.Title == "" && nameName.MatchString(c.Name) {
		t.Title = c.Name
	}
	values, err := m.ask.Sample(t.Place, c.Name)
	if err != nil {
		return err
	}
	alike := 0
	for _, v := range values {
		if localValue.MatchString(v) {
			alike++
		}
	}
	switch {
	case len(values) > 0 && alike*5 >= len(values)*4:
		t.Local = append(t.Local, Noted{c.Name, "its values are addresses or paths"})
	case len(values) == 0 && localName.MatchString(c.Name), alike > 0 && localName.MatchString(c.Name):
		t.Local = append(t.Local, Noted{c.Name, "its name is that of an address or a path"})
	}
	return nil
}

func isTime(c catalog.Column) bool {
	return c.Kind == record.Timestamp || c.Kind == record.LocalTimestamp || c.Kind == record.Date
}

// reference finds what a column points at: by its foreign key, else by its name when
// all of its values are ids of a type of that name.
func (m *maker) reference(t *Type, c catalog.Column) (bool, error) {
	if c.RefersTo != "" {
		to := m.byPlace[c.RefersTo]
		if to == nil {
			t.Ignore = append(t.Ignore, Noted{c.Name, "it points at " + c.RefersTo + ", which is left out"})
			return true, nil
		}
		if c.RefersColumn != "" && to.ID.Name != "" && c.RefersColumn != to.ID.Name {
			t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name, Column: c.RefersColumn})
			return true, nil
		}
		t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name})
		return true, nil
	}
	base, ok := strings.CutSuffix(strings.ToLower(c.Name), "_id")
	if !ok {
		base, ok = strings.CutPrefix(strings.ToLower(c.Name), "fk_")
	}
	if !ok || c.Kind != record.Integer && c.Kind != record.Text {
		return false, nil
	}
	for _, to := range m.draft.Types {
		named := to.Name == base || strings.HasSuffix(base, "_"+to.Name) || strings.HasSuffix(to.Name, "_"+base) || base == "parent" && to == t
		if to.ID.Name == "" || !named {
			continue
		}
		own, _ := to.place.Column(to.ID.Name)
		if own.Kind != c.Kind {
			continue
		}
		values, err := m.ask.Sample(t.Place, c.Name)
		if err != nil {
			return false, err
		}
		if len(values) == 0 {
			continue
		}
		resolves, err := m.ask.Resolves(t.Place, c.Name, to.Place, to.ID.Name)
		if err != nil {
			return false, err
		}
		if resolves {
			t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name, Why: "no foreign key, but all of its values are ids of " + to.Place})
			return true, nil
		}
	}
	return false, nil
}

func (t *Type) refersTo(field string) string {
	for _, r := range t.Refers {
		if r.Field == field {
			return r.To
		}
	}
	return ""
}

// findKey takes the best unique index without the internal id; where there is none, the
// smallest set of columns that is unique in the data and looks like a name or a code.
func (m *maker) findKey(t *Type) error {
	candidates := slices.Clone(t.place.Unique)
	if t.ID.Name == "" && len(t.place.Primary) > 0 {
		candidates = append(candidates, t.place.Primary)
	}
	candidates = slices.DeleteFunc(candidates, func(columns []string) bool {
		return slices.Contains(columns, t.ID.Name) || slices.ContainsFunc(columns, func(c string) bool { return !t.mayBeKey(c) })
	})
	if len(candidates) > 0 {
		slices.SortStableFunc(candidates, func(a, b []string) int { return cmp.Compare(t.cost(a), t.cost(b)) })
		t.Key = t.ordered(candidates[0])
		t.keepKeyFields()
		return nil
	}
	guesses := t.guesses()
	rows, _, err := m.ask.Rows(t.Place)
	if err != nil {
		return err
	}
	if rows == 0 && len(guesses) > 0 {
		t.Key, t.KeyWhy = guesses[t.likeliest(guesses)], "no unique index and no records; by the names of the fields alone"
		t.keepKeyFields()
		return nil
	}
	best := 0
	for _, columns := range guesses {
		var nullable []string // the root of a tree has no parent
		for _, column := range columns {
			if t.refersTo(column) == t.Name {
				nullable = append(nullable, column)
			}
		}
		distinct, err := m.ask.Distinct(t.Place, columns, nullable)
		if err != nil {
			return err
		}
		if distinct > best {
			best, t.Key = distinct, columns
		}
		if distinct == rows {
			break
		}
	}
	switch {
	case best == rows:
		t.KeyWhy = fmt.Sprintf("no unique index; unique in the %d records that there are", rows)
	case best*100 >= rows*nearlyUnique:
		t.KeyWhy = fmt.Sprintf("no unique index; %d values in %d records, so some share theirs: a match will name them", best, rows)
	default:
		t.Key = nil
		return nil
	}
	t.keepKeyFields()
	return nil
}

// nearlyUnique is how many of a hundred records a key must tell apart to be proposed. In
// real applications a key that people rely on is often broken by a few old records.
const nearlyUnique = 98

// likeliest chooses among guesses for a table without records: within an owner where
// the type refers to another that it may belong to, else by a code or name alone.
func (t *Type) likeliest(guesses [][]string) int {
	for i, columns := range guesses {
		if len(columns) == 2 && t.refersTo(columns[0]) != "" && t.refersTo(columns[0]) != t.Name {
			if c, _ := t.place.Column(columns[0]); c.Required {
				return i
			}
		}
	}
	return 0
}

// keepKeyFields takes the fields of a guessed key out of what was guessed to be local.
func (t *Type) keepKeyFields() {
	t.Local = slices.DeleteFunc(t.Local, func(n Noted) bool { return slices.Contains(t.Key, n.Name) })
}

// mayBeKey refuses what never identifies a record everywhere.
func (t *Type) mayBeKey(column string) bool {
	c, ok := t.place.Column(column)
	in := func(list []Noted) bool {
		return slices.ContainsFunc(list, func(n Noted) bool { return n.Name == column })
	}
	return ok && !c.Derived && c.Kind != record.Bytes && c.Kind != record.JSON && !in(t.Secret) && !in(t.Ignore) && column != t.StampAt && column != t.StampBy
}

// cost orders unique sets: few columns that may be null, no random values, codes before
// names before others, few columns.
func (t *Type) cost(columns []string) int {
	total := 4 * len(columns)
	for _, name := range columns {
		c, _ := t.place.Column(name)
		if !c.Required && t.refersTo(name) != t.Name {
			total += 6
		}
		switch {
		case randomName.MatchString(name):
			total += 100
		case codeName.MatchString(name):
			total--
		case t.refersTo(name) == "" && !nameName.MatchString(name):
			total += 2
		}
	}
	return total
}

// ordered puts references before other fields, the parent of a tree first of all.
func (t *Type) ordered(columns []string) []string {
	out := slices.Clone(columns)
	rank := func(name string) int {
		switch t.refersTo(name) {
		case "":
			return 2
		case t.Name:
			return 0
		default:
			return 1
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return rank(a) - rank(b) })
	return out
}

// guesses lists sets of columns that may be a key, the likeliest first.
func (t *Type) guesses() [][]string {
	var codes, names, refs []string
	for _, c := range t.place.Columns {
		switch {
		case c.Name == t.ID.Name || !t.mayBeKey(c.Name):
		case t.refersTo(c.Name) != "":
			refs = append(refs, c.Name)
		case codeName.MatchString(c.Name) && !randomName.MatchString(c.Name):
			codes = append(codes, c.Name)
		case nameName.MatchString(c.Name), strings.EqualFold(c.Name, t.Name):
			names = append(names, c.Name)
		}
	}
	refs = t.ordered(refs)
	plain := slices.Concat(codes, names)
	var out [][]string
	for _, p := range plain {
		out = append(out, []string{p})
	}
	for _, p := range plain {
		for _, r := range refs {
			out = append(out, []string{r, p})
		}
	}
	for i, a := range refs {
		for _, b := range refs[i+1:] {
			out = append(out, []string{a, b})
		}
	}
	for i, a := range refs {
		for _, b := range refs[i+1:] {
			for _, p := range plain {
				out = append(out, []string{a, b, p})
			}
		}
	}
	for i, a := range plain {
		for _, b := range plain[i+1:] {
			out = append(out, []string{a, b})
		}
	}
	for _, c := range t.place.Columns { // anything else that is short and plain
		if c.Name != t.ID.Name && t.mayBeKey(c.Name) && !slices.Contains(plain, c.Name) && !slices.Contains(refs, c.Name) && (c.Kind == record.Text || c.Kind == record.Integer || c.Kind == record.Date) {
			for _, r := range refs {
				out = append(out, []string{r, c.Name})
			}
			out = append(out, []string{c.Name})
		}
	}
	const most = 40
	return out[:min(len(out), most)]
}

// dropKeyless leaves out types without a key, then those whose key or references need them.
func (m *maker) dropKeyless() {
	dropped := map[string]bool{}
	for {
		before := len(dropped)
		m.draft.Types = slices.DeleteFunc(m.draft.Types, func(t *Type) bool {
			why := ""
			if len(t.Key) == 0 {
				why = "no key: no unique index without the internal id, and no set of columns that looks like one is unique in the data"
			}
			for _, field := range t.Key {
				if dropped[t.refersTo(field)] {
					why = "its key refers to " + t.refersTo(field) + ", which is left out"
				}
			}
			if why == "" {
				return false
			}
			dropped[t.Name] = true
			m.draft.LeftOut = append(m.draft.LeftOut, Noted{t.Place, why})
			return true
		})
		if len(dropped) == before {
			break
		}
	}
	keys := map[string][]string{}
	for _, t := range m.draft.Types {
		keys[t.Name] = t.Key
	}
	for _, t := range m.draft.Types {
		t.Refers = slices.DeleteFunc(t.Refers, func(r Reference) bool {
			if r.Column != "" && !slices.Equal(keys[r.To], []string{r.Column}) {
				return true // a code that is not the key: the value itself means the same everywhere
			}
			if dropped[r.To] {
				t.Ignore = append(t.Ignore, Noted{r.Field, "it points at " + r.To + ", which is left out"})
			}
			return dropped[r.To]
		})
	}
	slices.SortFunc(m.draft.LeftOut, func(a, b Noted) int { return strings.Compare(a.Name, b.Name) })
}

// findOwner takes a type whose key begins with a reference to another as part of it.
func (m *maker) findOwner(t *Type) {
	if len(t.Key) < 2 {
		return
	}
	to := t.refersTo(t.Key[0])
	if to == "" || to == t.Name {
		return
	}
	why := "its key is that of its " + to + " and something more"
	if !slices.ContainsFunc(t.Key, func(field string) bool { return t.refersTo(field) == "" }) {
		why = "a link, and " + to + " stands first in its key"
	}
	t.PartOf = Noted{to, why}
}

// areas groups types by the first word of their names, and the others by what they
// refer to.
func areas(types []*Type) []Area {
	word := func(name string) string { first, _, _ := strings.Cut(name, "_"); return first }
	count := map[string]int{}
	for _, t := range types {
		count[word(t.Name)]++
	}
	byName := map[string]*Area{}
	put := func(area, why, typ string) {
		if byName[area] == nil {
			byName[area] = &Area{Name: area, Why: why}
		}
		if len(why) > len(byName[area].Why) {
			byName[area].Why = why
		}
		byName[area].Types = append(byName[area].Types, typ)
	}
	areaOf := map[string]string{}
	for _, t := range types {
		if first := word(t.Name); count[first] > 1 && count[first]*2 <= len(types) {
			areaOf[t.Name] = first
		}
	}
	// The others go where all that they refer to is, as far as that is one area.
	why := map[string]string{}
	for range types {
		for _, t := range types {
			if areaOf[t.Name] != "" {
				continue
			}
			one := areaOf[t.PartOf.Name]
			for _, r := range t.Refers {
				switch at := areaOf[r.To]; {
				case r.To == t.Name || t.PartOf.Name != "":
				case one == "":
					one = at
				case at != one:
					one = "-"
				}
			}
			if one != "" && one != "-" {
				areaOf[t.Name], why[t.Name] = one, "refer"
			}
		}
	}
	for _, t := range types {
		switch area := areaOf[t.Name]; {
		case area == "":
			put("general", "the rest", t.Name)
		case why[t.Name] != "":
			put(area, "their names begin alike, or they refer to such", t.Name)
		default:
			put(area, "their names begin alike", t.Name)
		}
	}
	var out []Area
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		out = append(out, *byName[name])
	}
	return out
}
