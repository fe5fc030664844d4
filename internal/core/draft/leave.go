package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
)

// What stays out of a catalog: what people do with the setup, and people themselves. That is
// told by names, rows, stamps, what refers to what, and best by two environments: setup is
// mostly the same in both, what grows with use is not.

const (
	manyRows    = 50_000 // more are setup only where both sides show it
	growingRows = 500    // from here on a place that is stamped may have grown with use
	fewMeet     = 10     // of a hundred records: what meets so rarely is not setup
	enough      = 20     // rows from which on such a share says something
)

// atFirst says why no type is made for a place whatever its data, "" where that is open.
func (m *maker) atFirst(t *Type) string {
	switch {
	case t.leave != "":
		return t.leave
	case wished(m.wish.Without, t.Place):
		return "left out as asked for"
	case slices.Contains(t.rows, -1):
		return "it is in " + m.sights[slices.IndexFunc(t.rows, func(n int) bool { return n >= 0 })].Name + " only"
	case m.unreadable(t) != "":
		return "the account may not read it in " + m.unreadable(t)
	case m.counter != nil && m.counter.Place == t.Place:
		return "it counts the internal ids of other tables"
	}
	return ""
}

// unreadable names the environment in which nothing of a place may be read.
func (m *maker) unreadable(t *Type) string {
	for _, s := range m.sights {
		if p, ok := s.Places[t.Place]; ok && len(p.Columns) > 0 && !slices.ContainsFunc(p.Columns,
			func(c catalog.Column) bool { return !c.Unreadable }) {
			return s.Name
		}
	}
	return ""
}

func wished(patterns []string, place string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		parts := strings.Split(strings.ToLower(p), "*")
		for i := range parts {
			parts[i] = regexp.QuoteMeta(parts[i])
		}
		return regexp.MustCompile("^" + strings.Join(parts, ".*") + "$").MatchString(strings.ToLower(place))
	})
}

// people reports whether a place lists people: by its name and what it says of them.
func (t *Type) people() bool {
	if t.place.Directory {
		return false // it is what the environment is for
	}
	personal, secret := 0, false
	for _, c := range t.place.Columns {
		if personField.MatchString(c.Name) {
			personal++
		}
		secret = secret || strings.Contains(strings.ToLower(c.Name), "passw") || strings.EqualFold(c.Name, "pwd")
	}
	named := peopleName.MatchString(t.Name)
	return named && (personal > 0 || secret) || secret && personal > 1 || personal >= 3
}

// leaveOut decides which places get a type, then takes out what cannot be without those that
// do not, and turns references to them into fields that are left alone.
func (m *maker) leaveOut() {
	for _, t := range m.all {
		if t.leave == "" && !wished(m.wish.With, t.Place) {
			t.leave = m.passing(t)
		}
	}
	m.onlyUsedByUse()
	m.hanging()
}

// hanging leaves out what needs what is left out, and makes the draft's types of the others.
func (m *maker) hanging() {
	for changed := true; changed; {
		changed = false
		for _, t := range m.all {
			if t.leave != "" {
				continue
			}
			if why := m.hangsOn(t); why != "" {
				t.leave, changed = why, true
			}
		}
	}
	for _, t := range m.all {
		if t.leave == "" {
			m.draft.Types = append(m.draft.Types, t)
		}
	}
	for _, t := range m.draft.Types {
		m.pointAtLeft(t)
	}
}

// empty is the reason of a place of which nothing can be told yet.
const empty = "no records yet, and nothing sure that tells its key"

// unknownInKey names a number in the key that is named like an internal id, of no type here.
func (m *maker) unknownInKey(t *Type) string {
	for _, field := range t.Key {
		c, _ := t.place.Column(field)
		if c.Kind == record.Integer && evidence.IDName(field) && t.refer(field) == nil && !m.chooses(t, field) {
			return field
		}
	}
	return ""
}

// passing says why a place holds what comes and goes with use, "" where it seems to be setup.
func (m *maker) passing(t *Type) string {
	switch {
	case t.people():
		return "people: they differ in every environment"
	case t.most() == 0 && (!t.score.stated || m.unknownInKey(t) != ""):
		return empty
	case len(t.Key) == 0:
		return "no key: nothing but its internal id tells its records apart"
	case t.counts():
		return "it only counts: production's numbers are never set back"
	}
	return m.withUse(t)
}

// withUse says why a place seems to grow with use, "" where it does not.
func (m *maker) withUse(t *Type) string {
	s := t.score
	both := t.sides() == 2
	stamped := t.CreatedAt != "" || t.StampAt != "" || slices.ContainsFunc(t.place.Columns, isTime)
	log := logName.MatchString(t.Place)
	meets := both && s.met > 0 && s.quality() >= map[bool]float64{true: 0.75, false: 0.5}[log]
	if meets && s.met*2 >= s.might {
		return ""
	}
	if both && !log && (stamped || m.refersToPeople(t)) {
		if why := t.hardlyMeets(); why != "" {
			return why
		}
	}
	switch {
	case log && (stamped || t.most() == 0 || !t.stable()):
		return "the name is that of a log or of passing data"
	case t.most() > manyRows:
		return fmt.Sprintf("more than %s and nothing that shows it is setup", show.Count(manyRows, "row", "rows"))
	case !both && t.grows():
		return fmt.Sprintf("%s, each stamped when it was made, and nothing unique but its internal id: it grows with use",
			show.Count(t.most(), "row", "rows"))
	}
	return ""
}

// hardlyMeets says of a type that has times or people in it why two sides show that it grows.
func (t *Type) hardlyMeets() string {
	s := t.score
	switch {
	case t.fewest() >= enough && (s.met*100 < s.might*fewMeet || s.quality() < 0.25 && !s.stated):
		return fmt.Sprintf("%d of %d records meet by the likeliest key, and it has times or people in it: it grows with use",
			s.met, s.might)
	case t.lopsided() && s.met*2 < s.might:
		return "many more records on one side, and it has times or people in it: it grows with use"
	}
	return ""
}

// stable reports whether a place has something that its records are known by.
func (t *Type) stable() bool {
	return t.score.stated && !slices.ContainsFunc(t.score.columns, func(c string) bool {
		return t.refer(c) == nil &&
			!codeName.MatchString(c) && !nameName.MatchString(c)
	})
}

// fewest is the number of rows on the side that has the fewest.
func (t *Type) fewest() int { return slices.Min(t.rows) }

// lopsided reports whether one side has ten times the records of the other.
func (t *Type) lopsided() bool {
	least, most := slices.Min(t.rows), slices.Max(t.rows)
	return most >= growingRows && least*10 < most
}

// grows reports whether a place looks like one that every use adds to, for one side alone.
func (t *Type) grows() bool {
	return t.most() >= 4*growingRows && t.CreatedAt != "" && !t.score.stated && (t.ID.Name != "" || len(t.place.Primary) == 0) &&
		!slices.ContainsFunc(t.score.columns, codeName.MatchString)
}

// counts reports whether all that a place has beside its key are numbers that run on.
func (t *Type) counts() bool {
	running := 0
	for _, c := range t.place.Columns {
		switch {
		case c.Name == t.ID.Name || slices.Contains(t.Key, c.Name) || t.place.Primary != nil &&
			slices.Contains(t.place.Primary, c.Name) || !t.carried(c.Name) && !countName.MatchString(c.Name):
		case c.Kind == record.Integer && countName.MatchString(c.Name):
			running++
		default:
			return false
		}
	}
	return running > 0
}

func (m *maker) refersToPeople(t *Type) bool {
	return slices.ContainsFunc(t.Refers, func(r Reference) bool {
		to := m.typeNamed(r.To)
		return to != nil && to.people()
	})
}

// onlyUsedByUse leaves out, where there is one side only, what nobody's setup refers to and
// what itself refers to people or to what grows, with times beside: bookings, orders, visits.
func (m *maker) onlyUsedByUse() {
	referred := map[string]bool{}
	for _, t := range m.all {
		for _, r := range t.Refers {
			if t.leave == "" && r.To != t.Name {
				for _, to := range r.targets() {
					referred[to] = true
				}
			}
		}
	}
	for _, t := range m.all {
		if t.leave != "" || wished(m.wish.With, t.Place) || t.sides() == 2 && t.score.quality() >= 0.5 {
			continue
		}
		times := 0
		for _, c := range t.place.Columns {
			if isTime(c) && c.Name != t.StampAt && c.Name != t.CreatedAt && c.Name != t.Retired.Field {
				times++
			}
		}
		if !referred[t.Name] && times > 0 && m.refersToPeople(t) && t.CreatedAt != "" {
			t.leave = "it refers to people and times, and no setup refers to it: it comes with use"
		}
	}
}

// hangsOn says of a type whose key needs one that is left out why it is left out too.
func (m *maker) hangsOn(t *Type) string {
	for _, field := range t.Key {
		r := t.refer(field)
		if r == nil {
			continue
		}
		out := 0
		for _, name := range r.targets() {
			to := m.typeNamed(name)
			if to.leave == "" {
				continue
			}
			if out++; out == len(r.targets()) {
				if wished(m.wish.With, t.Place) {
					return "its key refers to " + to.Place + ", which is left out"
				}
				return "it belongs to " + to.Place + ", which is left out"
			}
		}
	}
	return ""
}

// pointAtLeft turns references to what is left out into fields that are left alone.
func (m *maker) pointAtLeft(t *Type) {
	t.Refers = slices.DeleteFunc(t.Refers, func(r Reference) bool {
		if r.Column != "" {
			to := m.typeNamed(r.To)
			if to.leave != "" || !slices.Equal(to.Key, []string{r.Column}) {
				return true // a code that is not the key: the value itself means the same everywhere
			}
			return false
		}
		if r.Chooser != "" {
			return m.withoutLeft(t, r)
		}
		to := m.typeNamed(r.To)
		if to.leave == "" && (to.ID.Name != "" || len(to.Key) == 1 && to.refer(to.Key[0]) == nil || r.Columns != nil) {
			return false
		}
		if to.leave == "" && to.ID.Name == "" && len(to.Key) == 1 && r.Form == "" {
			return false // one record for each of another
		}
		if to.leave == "" {
			t.Ignore = append(t.Ignore, Noted{Name: r.Field, Why: "it points at " + to.Place +
				", which has no internal id and a key of several fields"})
			return true
		}
		for _, column := range r.columns() {
			t.Ignore = append(t.Ignore, Noted{Name: column, Why: "it points at " + to.Place + ", which is left out"})
		}
		return true
	})
}

func (r Reference) columns() []string {
	if r.Columns == nil {
		return []string{r.Field}
	}
	var out []string
	for _, p := range r.Columns {
		out = append(out, p.Here)
	}
	return out
}

// withoutLeft takes the words of a chooser out whose types are left out, and leaves the
// records that have them out as well. It reports whether no word remains.
func (m *maker) withoutLeft(t *Type, r Reference) bool {
	var gone []string
	for word, name := range r.Words {
		if m.typeNamed(name).leave != "" {
			gone = append(gone, word)
			delete(r.Words, word)
		}
	}
	chooser, _ := t.place.Column(r.Chooser)
	if len(gone) > 0 && plainName(r.Chooser) {
		slices.Sort(gone)
		t.Only = Noted{Name: oneOf(chooser, r.Words), Why: strings.Join(gone, ", ") + " stands for what is left out"}
	}
	if len(r.Words) == 0 {
		t.Only = Noted{}
		t.Ignore = append(t.Ignore, Noted{Name: r.Field, Why: "it points at what is left out"})
	}
	return len(r.Words) == 0
}

// notes lists what no type was made for and what is not sure, each place once.
func (m *maker) notes() {
	for _, t := range m.all {
		switch {
		case t.leave != "":
			m.draft.Notes = append(m.draft.Notes, Note{Place: t.Place, Rows: t.rows, Why: t.leave})
		case t.doubt(len(m.sights)) != "":
			m.draft.Notes = append(m.draft.Notes, Note{Place: t.Place, Type: t.Name, Rows: t.rows, Why: t.doubt(len(m.sights))})
		}
	}
}

// doubt says what a person has to look at, "" where a type seems to be right.
func (t *Type) doubt(sides int) string {
	var out []string
	if t.found != "" {
		out = append(out, t.found)
	}
	switch {
	case sides == 2 && !t.score.nearly(): // said already
	case sides == 2 && t.sides() == 2 && !t.KeySure && t.score.might >= 3:
		out = append(out, fmt.Sprintf("only %d of %d records meet by this key", t.score.met, t.score.might))
		if t.score.met*2 >= t.score.might {
			out[len(out)-1] = fmt.Sprintf("%d of %d records meet by this key, and agree in %s only", t.score.met, t.score.might,
				perHundred(t.score.agreed, t.score.compared))
		}
	case t.sides() == 1 && !t.score.stated && t.found == "":
		out = append(out, "its key has no unique index, and only one side shows its records")
	}
	if len(t.ways) > 0 && len(out) > 0 && !t.KeySure {
		out = append(out, "other keys: "+strings.Join(t.ways, "; "))
	}
	return strings.Join(out, "; ")
}

// Names reports whether a pattern names a place of any of some environments.
func Names(pattern string, sights []Sight) bool {
	for _, s := range sights {
		for place := range s.Places {
			if wished([]string{pattern}, place) {
				return true
			}
		}
	}
	return false
}
