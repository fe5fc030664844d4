package decision

import (
	"maps"
	"slices"

	"anagram/internal/core/match"
)

// What several people's words on one finding add up to. Of one person the latest word counts; a
// decline or hold of anybody stops, unless somebody overruled it; approvals for different sides
// leave open what they are about; a standing rule decides only what no person did.

// Word is one entry of a log about one finding.
type Word struct {
	Who      string
	Decision Decision
	Field    string // "" is the record
	At       string // when it was said, in a form that sorts by time
	Seq      int64  // place in the log
	Note     string
	Carried  int  // the earlier docket in which it was said first, 0 for this one
	Rule     bool // by a standing rule, which is no person
	// Overrules says of an approval that declines and holds that others said before do not count.
	Overrules bool
}

// after reports whether a word was said after another one. What was said elsewhere comes later
// into a log than it was said: its own time counts, and its place only where that is the same.
func (w Word) after(other Word) bool {
	return w.At > other.At || w.At == other.At && w.Seq > other.Seq
}

// Stops reports whether a word stops what it is about.
func (w Word) Stops() bool { return stops(w.Decision) }

// stops reports whether a decision stops what it is about.
func stops(d Decision) bool { return d == Declined || d == Held }

// takes reports whether a decision takes a side.
func takes(d Decision) bool { return d == Approved || d == TargetKept }

// voice is what one person, or one standing rule, said of one finding.
type voice struct {
	who     string
	record  *Word
	stopped *Word // the last word on the record that was no approval
	fields  map[string]*Word
}

func (v *voice) hear(w Word) {
	if w.Field != "" {
		if had := v.fields[w.Field]; had == nil || w.after(*had) {
			if v.fields == nil {
				v.fields = map[string]*Word{}
			}
			v.fields[w.Field] = &w
		}
		return
	}
	if w.Decision != Approved && (v.stopped == nil || w.after(*v.stopped)) {
		v.stopped = &w
	}
	if v.record == nil || w.after(*v.record) {
		v.record = &w
	}
}

// own gives the person's word on a field alone, where it counts beside their word on the record:
// one that came after it, and where the record was approved, one that came before it as well. Only
// a decline or hold of the record takes back the approval of a field, and only a word on a field
// its decline or hold.
func (v *voice) own(field string) *Word {
	on := v.fields[field]
	switch {
	case on == nil || on.Decision == Reopened:
		return nil
	case v.record == nil || on.after(*v.record):
		return on
	case v.record.Decision != Approved:
		return nil
	case on.Decision == Approved && v.stopped != nil && v.stopped.after(*on):
		return nil
	}
	return on
}

// on gives what the person says of a field, and by which word; nil for nothing. Who approves the
// record approves what it proposes.
func (v *voice) on(field string, proposes match.Proposal) (Decision, *Word) {
	if own := v.own(field); own != nil {
		return own.Decision, own
	}
	switch {
	case v.record == nil:
		return Undecided, nil
	case v.record.Decision != Approved:
		return v.record.Decision, v.record
	case proposes == match.Write:
		return Approved, v.record
	case proposes == match.Keep:
		return TargetKept, v.record
	}
	return Undecided, nil
}

// said is what one person says of something.
type said struct {
	who  string
	what Decision
	word *Word
}

// together gives what several people say of something comes to, and the word that settles it: the
// latest of those that say so.
func together(list []said) (what Decision, by *Word, source, target []string, overruled []Overruled) {
	var over *said
	for i, s := range list {
		if takes(s.what) && s.word.Overrules && (over == nil || s.word.after(*over.word)) {
			over = &list[i]
		}
	}
	words := map[Decision]*Word{}
	for _, s := range list {
		if stops(s.what) && over != nil && over.word.after(*s.word) {
			overruled = append(overruled, Overruled{Who: s.who, By: over.who, At: over.word.At})
			continue
		}
		switch s.what {
		case Approved:
			source = append(source, s.who)
		case TargetKept:
			target = append(target, s.who)
		}
		if last := words[s.what]; last == nil || s.word.after(*last) {
			words[s.what] = s.word
		}
	}
	for _, d := range []Decision{Declined, Held} {
		if words[d] != nil {
			return d, words[d], nil, nil, overruled
		}
	}
	switch {
	case len(source) > 0 && len(target) > 0:
		return Undecided, nil, source, target, overruled
	case len(source) > 0:
		return Approved, words[Approved], source, nil, overruled
	case len(target) > 0:
		return TargetKept, words[TargetKept], nil, target, overruled
	}
	return Undecided, words[Undecided], nil, nil, overruled
}

// Sum gives how a finding stands by all words on it. Of the finding its status, reasons, fields and
// whether the target has it are looked at.
func Sum(f Finding, words []Word) Standing {
	out := Standing{Decision: Undecided, own: map[string]OnField{}, stopping: map[string]bool{}}
	people, rules := voicesOf(words)
	out.voices = people
	record := func(of []*voice) (list []said) {
		for _, v := range of {
			if v.record != nil {
				list = append(list, said{v.who, v.record.Decision, v.record})
			}
		}
		return list
	}
	list := record(people)
	spoken := len(list) > 0
	if !spoken {
		list = record(rules)
	}
	what, by, source, target, overruled := together(list)
	out.Decision = what
	if by != nil {
		out.DecidedBy, out.DecidedAt, out.Note, out.CarriedFrom, out.ByRule, out.Seq = by.Who, by.At, by.Note, by.Carried, by.Rule, by.Seq
	}
	out.Overruled = overruled
	if spoken && (f.Adds() || len(f.Fields) == 0) { // else it is asked of each field
		out.stops(list, overruled)
	}
	if len(source) > 0 && len(target) > 0 {
		out.Wanted = append(out.Wanted, Wanted{Source: source, Target: target})
	}
	for _, v := range people {
		if v.record != nil && v.record.Decision == Approved {
			out.Approvers = append(out.Approvers, v.who)
		}
	}
	for _, field := range fieldsOf(f, people, rules) {
		out.field(f, field, people, rules)
	}
	out.settledBy(f, by)
	return out
}

// settledBy names of a finding that is written in part, though its record is not approved, who
// approved that part: record is the word on the record, which settles the rest.
func (s *Standing) settledBy(f Finding, record *Word) {
	f.Standing = *s
	if stands := f.Stands(); record == nil || s.Decision == Approved || stands != Approved && stands != InPart {
		return
	}
	var last OnField
	for _, own := range s.own {
		if own.Decision == Approved && (last.Who == "" || own.At > last.At || own.At == last.At && own.Seq > last.Seq) {
			last = own
		}
	}
	if last.Who != "" {
		s.record = record
		s.DecidedBy, s.DecidedAt, s.Note, s.CarriedFrom, s.ByRule = last.Who, last.At, last.Note, last.Carried, false
	}
}

// voicesOf sorts words by who said them, in the order in which they spoke first.
func voicesOf(words []Word) (people, rules []*voice) {
	by := map[string]*voice{}
	byRule := map[string]*voice{}
	for _, w := range words {
		if w.Rule {
			if byRule[w.Note] == nil { // a rule is told by why it decides
				byRule[w.Note] = &voice{who: w.Who}
				rules = append(rules, byRule[w.Note])
			}
			byRule[w.Note].hear(w)
			continue
		}
		name := Name(w.Who)
		if by[name] == nil {
			by[name] = &voice{who: w.Who}
			people = append(people, by[name])
		}
		by[name].hear(w)
	}
	return people, rules
}

// fieldsOf lists the fields of a finding, and others on which somebody spoke.
func fieldsOf(f Finding, of ...[]*voice) []Field {
	out := slices.Clone(f.Fields)
	more := map[string]bool{}
	for _, voices := range of {
		for _, v := range voices {
			for name := range v.fields {
				if !slices.ContainsFunc(f.Fields, func(have Field) bool { return have.Name == name }) {
					more[name] = true
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(more)) {
		out = append(out, Field{Name: name})
	}
	return out
}

// heardOn gives what is said of a field.
func heardOn(of []*voice, field string, proposes match.Proposal) (list []said) {
	for _, v := range of {
		if what, word := v.on(field, proposes); word != nil {
			list = append(list, said{v.who, what, word})
		}
	}
	return list
}

// field adds what the words on one field come to, where that is not what the decision on the record
// says of it already.
func (s *Standing) field(f Finding, field Field, people, rules []*voice) {
	proposes := f.Proposes(field)
	if f.Adds() { // a new record is written as it is, but for the fields that are left out
		proposes = match.Write
	}
	list := heardOn(people, field.Name, proposes)
	spoken := len(list) > 0
	if !spoken {
		list = heardOn(rules, field.Name, proposes)
	}
	what, by, source, target, overruled := together(list)
	if spoken {
		s.stops(list, overruled)
	}
	if len(source) > 0 && len(target) > 0 {
		s.Wanted = append(s.Wanted, Wanted{Field: field.Name, Source: source, Target: target})
	}
	for _, o := range overruled {
		o.Field = field.Name
		if !slices.ContainsFunc(s.Overruled, func(had Overruled) bool { return had.Who == o.Who && had.By == o.By }) {
			s.Overruled = append(s.Overruled, o)
		}
	}
	if what == s.follows(proposes) && (by == nil || by.Field == "") {
		return
	}
	s.alone(field.Name, what, by)
}

// alone adds what holds for a field beside the record; by is the word that settles it, nil where
// none does.
func (s *Standing) alone(field string, what Decision, by *Word) {
	if by == nil {
		by = &Word{}
	}
	if s.ByField == nil {
		s.ByField = map[string]Decision{}
	}
	s.ByField[field] = what
	s.own[field] = OnField{Decision: what, Seq: by.Seq, Who: by.Who, At: by.At, Note: by.Note, Carried: by.Carried}
	if what != Approved && what != Undecided {
		s.Against = append(s.Against, field)
	}
	if by.Who != "" && s.DecidedBy == "" && len(s.Wanted) == 0 && what != Undecided {
		s.DecidedBy, s.DecidedAt, s.Note, s.CarriedFrom, s.ByRule = by.Who, by.At, by.Note, by.Carried, by.Rule
	}
}

// follows is what the decision on the record says of a field for which something is proposed.
func (s Standing) follows(proposes match.Proposal) Decision {
	switch {
	case s.Decision != Approved:
		return s.Decision
	case proposes == match.Write:
		return Approved
	case proposes == match.Keep:
		return TargetKept
	}
	return Undecided
}

// Spoke reports whether a person said something that counts, on the record or on a field of it.
func (s Standing) Spoke(who string) bool {
	v := s.voice(who)
	if v == nil {
		return false
	}
	if v.record != nil && v.record.Decision != Undecided {
		return true
	}
	return slices.ContainsFunc(slices.Collect(maps.Keys(v.fields)), func(field string) bool {
		own := v.own(field)
		return own != nil && own.Decision != Undecided
	})
}

// By gives what a person says of the record, or of a field of it alone; Undecided for nothing.
func (s Standing) By(who, field string) Decision {
	v := s.voice(who)
	switch {
	case v == nil:
		return Undecided
	case field != "":
		if own := v.own(field); own != nil {
			return own.Decision
		}
	}
	if v.record == nil {
		return Undecided
	}
	return v.record.Decision
}

// FieldsBy lists the fields on which a person has a word of their own, in order.
func (s Standing) FieldsBy(who string) []string {
	v := s.voice(who)
	if v == nil {
		return nil
	}
	var out []string
	for _, field := range slices.Sorted(maps.Keys(v.fields)) {
		if v.fields[field].Decision != Reopened {
			out = append(out, field)
		}
	}
	return out
}

// Stoppers lists who else than a person declines or holds the finding, or a field of it, so that
// it counts.
func (s Standing) Stoppers(who string) []string {
	var out []string
	for _, v := range s.voices {
		if Name(v.who) != Name(who) && s.stopping[Name(v.who)] {
			out = append(out, v.who)
		}
	}
	return out
}

// stops keeps which of several people stop what they speak of and are not overruled in it.
func (s *Standing) stops(list []said, overruled []Overruled) {
	for _, one := range list {
		if stops(one.what) && !slices.ContainsFunc(overruled, func(o Overruled) bool { return o.Who == one.who }) {
			s.stopping[Name(one.who)] = true
		}
	}
}

func (s Standing) voice(who string) *voice {
	for _, v := range s.voices {
		if Name(v.who) == Name(who) {
			return v
		}
	}
	return nil
}

// Said gives the words that count of everybody, in the order in which they spoke first: on the
// record, and on single fields beside it.
func (s Standing) Said() []Word {
	var out []Word
	for _, v := range s.voices {
		if v.record != nil && v.record.Decision != Undecided {
			out = append(out, *v.record)
		}
		for _, field := range slices.Sorted(maps.Keys(v.fields)) {
			if own := v.own(field); own != nil && own.Decision != Undecided {
				out = append(out, *own)
			}
		}
	}
	return out
}
