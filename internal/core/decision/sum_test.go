package decision

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/match"
)

// said writes words as they stand in a log: who, decision, field or "", and what else.
func wordsOf(list ...[]string) []Word {
	var out []Word
	for i, w := range list {
		word := Word{Who: w[0], Decision: Decision(w[1]), Field: w[2], At: fmt.Sprintf("%02d", i+1), Seq: int64(i + 1)}
		for _, more := range w[3:] {
			switch more {
			case "overrules":
				word.Overrules = true
			case "rule":
				word.Rule = true
			default:
				word.At = more
			}
		}
		out = append(out, word)
	}
	return out
}

func TestWhatSeveralPeopleSayComesTo(t *testing.T) {
	changed := Finding{Status: match.Changed, InTarget: true, Fields: []Field{{"x", match.MovedSource}, {"z", match.MovedTarget}}}
	conflict := Finding{Status: match.Conflict, InTarget: true, Reasons: []match.Reason{match.BothMoved},
		Fields: []Field{{"x", match.MovedBoth}, {"y", match.MovedSource}}}
	added := Finding{Status: match.New, Fields: []Field{{"x", match.MovedSource}, {"y", match.MovedSource}}}
	w := func(parts ...string) []string { return parts }
	for name, c := range map[string]struct {
		of     Finding
		words  []Word
		stands Decision
		writes string
		wanted int
	}{
		"nothing":                                           {changed, nil, Undecided, "", 0},
		"an approval":                                       {changed, wordsOf(w("mara", "approved", "")), Approved, "x", 0},
		"two approvals":                                     {changed, wordsOf(w("mara", "approved", ""), w("ida", "approved", "")), Approved, "x", 0},
		"a decline after an approval of another":            {changed, wordsOf(w("mara", "approved", ""), w("ida", "declined", "")), Declined, "", 0},
		"a decline before it":                               {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "")), Declined, "", 0},
		"one who thinks better of it":                       {changed, wordsOf(w("ida", "declined", ""), w("ida", "approved", "")), Approved, "x", 0},
		"a hold and a decline":                              {changed, wordsOf(w("ida", "held", ""), w("mara", "declined", "")), Declined, "", 0},
		"a decline that is overruled":                       {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules")), Approved, "x", 0},
		"and said again":                                    {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules"), w("ida", "declined", "")), Declined, "", 0},
		"and the overruling taken back":                     {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules"), w("mara", "open", "")), Declined, "", 0},
		"a reopen of another":                               {changed, wordsOf(w("ida", "declined", ""), w("mara", "open", "")), Declined, "", 0},
		"a reopen of one's own":                             {changed, wordsOf(w("ida", "declined", ""), w("ida", "open", "")), Undecided, "", 0},
		"different sides of a record":                       {changed, wordsOf(w("ida", "approved", ""), w("mara", "target-kept", "")), Undecided, "", 2},
		"different sides of a field":                        {conflict, wordsOf(w("ida", "approved", ""), w("ida", "approved", "x"), w("mara", "target-kept", "x")), Undecided, "y", 1},
		"a field that another declines":                     {conflict, wordsOf(w("ida", "approved", ""), w("ida", "approved", "x"), w("mara", "declined", "y")), Approved, "x", 0},
		"a field of a conflict that nobody chose":           {conflict, wordsOf(w("ida", "approved", "")), Undecided, "y", 0},
		"a side chosen by another":                          {conflict, wordsOf(w("ida", "approved", ""), w("mara", "approved", "x")), Approved, "x y", 0},
		"a new record, of which another leaves a field out": {added, wordsOf(w("ida", "approved", ""), w("mara", "declined", "y")), Approved, "x", 0},
		"a new record that another declines":                {added, wordsOf(w("ida", "approved", ""), w("mara", "declined", "")), Declined, "", 0},
		"what was said before, read in later":               {changed, wordsOf(w("ida", "approved", "", "05"), w("ida", "declined", "", "02")), Approved, "x", 0},
		"a rule":                                            {changed, wordsOf(w("mara", "declined", "", "rule")), Declined, "", 0},
		"a person otherwise than a rule":                    {changed, wordsOf(w("mara", "declined", "", "rule"), w("ida", "approved", "")), Approved, "x", 0},
		"a rule after a person":                             {changed, wordsOf(w("ida", "approved", ""), w("mara", "declined", "", "rule")), Approved, "x", 0},
		"a name written otherwise":                          {changed, wordsOf(w("Ida ", "declined", ""), w("ida", "approved", "")), Approved, "x", 0},
		"what the target moved, taken over":                 {changed, wordsOf(w("ida", "approved", ""), w("ida", "approved", "z")), Approved, "x z", 0},
	} {
		f := c.of
		f.Standing = Sum(f, c.words)
		assert.Equal(t, c.stands, f.Stand(), name)
		assert.Len(t, f.Wanted, c.wanted, name)
		if in, said := map[string]Decision{"a field that another declines": InPart, "a new record, of which another leaves a field out": InPart,
			"different sides of a record": Clash, "an approval": Approved, "nothing": Undecided}[name]; said {
			assert.Equal(t, in, f.Stands(), name)
		}
		var writes []string
		if f.Decision != Declined {
			writes = f.ApprovedFields()
		}
		assert.Equal(t, c.writes, joined(writes), name)
	}
}

func joined(list []string) string {
	out := ""
	for i, s := range list {
		if i > 0 {
			out += " "
		}
		out += s
	}
	return out
}

// naive is the same in another way: for each field it asks each person in turn what they want, by
// going back through their words; where nobody says anything the rules are asked the same way.
func naive(f Finding, words []Word, field Field) Decision {
	latest := naively(f, words, field, false)
	if len(latest) == 0 {
		latest = naively(f, words, field, true)
	}
	counted := map[Decision]int{}
	for _, w := range latest {
		silenced := (w.says == Declined || w.says == Held) && slices.ContainsFunc(slices.Collect(maps.Values(latest)), func(other naiveWord) bool {
			return other.Overrules && (other.says == Approved || other.says == TargetKept) && other.after(w.Word)
		})
		if !silenced {
			counted[w.says]++
		}
	}
	switch {
	case counted[Declined] > 0:
		return Declined
	case counted[Held] > 0:
		return Held
	case counted[Approved] > 0 && counted[TargetKept] > 0:
		return Undecided
	case counted[Approved] > 0:
		return Approved
	case counted[TargetKept] > 0:
		return TargetKept
	}
	return Undecided
}

type naiveWord struct {
	Word
	says Decision
}

// naively gives what each person, or each rule, says of a field.
func naively(f Finding, words []Word, field Field, rules bool) map[string]naiveWord {
	proposes := f.Proposes(field)
	if f.Adds() {
		proposes = match.Write
	}
	of := map[string][]Word{}
	for _, w := range words {
		if w.Rule == rules {
			name := Name(w.Who)
			if rules {
				name = w.Note
			}
			of[name] = append(of[name], w)
		}
	}
	out := map[string]naiveWord{}
	for name, list := range of {
		slices.SortStableFunc(list, func(a, b Word) int {
			if a.after(b) {
				return 1
			}
			return -1
		})
		var on, record *Word
		lost := false // the word on the field was said before the record was declined, held, kept or opened
		for i := range list {
			w := &list[i]
			switch w.Field {
			case field.Name:
				on, lost = w, false
			case "":
				record = w
				lost = lost || w.Decision != Approved
			}
		}
		counts := on != nil && on.Decision != Reopened
		if counts && record != nil && record.after(*on) {
			counts = record.Decision == Approved && (on.Decision != Approved || !lost)
		}
		switch {
		case counts:
			out[name] = naiveWord{*on, on.Decision}
		case record == nil:
		case record.Decision != Approved:
			out[name] = naiveWord{*record, record.Decision}
		case proposes == match.Write:
			out[name] = naiveWord{*record, Approved}
		case proposes == match.Keep:
			out[name] = naiveWord{*record, TargetKept}
		}
	}
	return out
}

// naiveApprovers counts the people who want all that is going to be written.
func naiveApprovers(f Finding, words []Word, written []Field) int {
	n := 0
	for _, who := range []string{"ida", "jonas", "mara"} {
		wants := len(written) > 0
		for _, field := range written {
			wants = wants && naively(f, words, field, false)[who].says == Approved
		}
		if wants {
			n++
		}
	}
	return n
}

func TestTheSumIsThatOfAnotherWay(t *testing.T) {
	const samples = 100_000
	random := rand.New(rand.NewPCG(1, 2))
	statuses := []Finding{
		{Status: match.Changed, InTarget: true}, {Status: match.New}, {Status: match.TargetEdit, InTarget: true},
		{Status: match.Conflict, InTarget: true, Reasons: []match.Reason{match.BothMoved}},
	}
	moved := []match.Moved{match.MovedSource, match.MovedTarget, match.MovedBoth, match.MovedUnknown}
	decisions := []Decision{Approved, TargetKept, Declined, Held, Undecided, Reopened}
	for range samples {
		f := statuses[random.IntN(len(statuses))]
		f.Fields = []Field{{"x", moved[random.IntN(4)]}, {"y", moved[random.IntN(4)]}}
		var words []Word
		for n := range 1 + random.IntN(4) {
			w := Word{Who: []string{"ida", "Jonas", "mara"}[random.IntN(3)], Field: []string{"", "x", "y"}[random.IntN(3)],
				Seq: int64(n + 1), At: fmt.Sprint(random.IntN(4))}
			w.Decision = decisions[random.IntN(len(decisions))]
			if w.Field == "" && w.Decision == Reopened {
				w.Decision = Undecided
			}
			w.Overrules = takes(w.Decision) && random.IntN(3) == 0
			if random.IntN(6) == 0 {
				w.Rule, w.Note, w.Overrules = true, []string{"one", "two"}[random.IntN(2)], false
			}
			words = append(words, w)
		}
		f.Standing = Sum(f, words)
		for _, field := range f.Fields {
			proposes := f.Proposes(field)
			if f.Adds() {
				proposes = match.Write
			}
			have := f.follows(proposes)
			if own, ok := f.ByField[field.Name]; ok {
				have = own
			}
			require.Equal(t, naive(f, words, field), have, "%+v: field %s of %v", words, field.Name, f.Status)
		}
		// Whom a guard counts, of a record that the target has.
		if !f.Adds() {
			var written []Field
			of := Writing{}
			for _, field := range f.Fields {
				if slices.Contains(f.ApprovedFields(), field.Name) {
					written, of.Fields = append(written, field), append(of.Fields, field.Name)
				}
				if f.Proposes(field) == match.Write {
					of.Proposed = append(of.Proposed, field.Name)
				}
			}
			people, n := map[string]*Person{}, 0
			for i, w := range words {
				if !w.Rule {
					name := Name(w.Who)
					if people[name] == nil {
						people[name] = &Person{}
					}
					people[name].Hear(w, i+1)
				}
			}
			for _, p := range people {
				if p.Wants(of) {
					n++
				}
			}
			require.Equal(t, naiveApprovers(f, words, written), n, "%+v", words)
		}
		// Whoever spoke last decides nothing alone: in another order of the log it is the same.
		backwards := slices.Clone(words)
		slices.Reverse(backwards)
		again := f
		again.Standing = Sum(f, backwards)
		require.Equal(t, f.Stand(), again.Stand(), "%+v", words)
	}
}

// Whose word still stops a finding is told of each field: who was overruled on one of them may stop
// it on another.
func TestWhoStops(t *testing.T) {
	changed := Finding{Status: match.Changed, InTarget: true, Fields: []Field{{"x", match.MovedSource}, {"y", match.MovedSource}}}
	added := Finding{Status: match.New, Fields: []Field{{"x", match.MovedSource}}}
	only := Finding{Status: match.TargetOnly, InTarget: true}
	w := func(parts ...string) []string { return parts }
	for name, c := range map[string]struct {
		of    Finding
		words []Word
		stop  []string
	}{
		"nobody":                        {changed, wordsOf(w("mara", "approved", "")), nil},
		"oneself":                       {changed, wordsOf(w("mara", "declined", "")), nil},
		"a decline":                     {changed, wordsOf(w("ida", "declined", "")), []string{"ida"}},
		"a field of it":                 {changed, wordsOf(w("ida", "held", "y")), []string{"ida"}},
		"overruled":                     {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules")), nil},
		"overruled on one of two":       {changed, wordsOf(w("ida", "declined", "x"), w("ida", "declined", "y"), w("mara", "approved", "x", "overrules")), []string{"ida"}},
		"overruled on one of all":       {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "x", "overrules")), []string{"ida"}},
		"overruled on each":             {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "x", "overrules"), w("mara", "approved", "y", "overrules")), nil},
		"one of two people overruled":   {changed, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules"), w("otto", "held", "")), []string{"otto"}},
		"a new record":                  {added, wordsOf(w("ida", "declined", "")), []string{"ida"}},
		"a new record, overruled":       {added, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules")), nil},
		"only in the target":            {only, wordsOf(w("ida", "declined", "")), []string{"ida"}},
		"only in the target, overruled": {only, wordsOf(w("ida", "declined", ""), w("mara", "approved", "", "overrules")), nil},
		"a rule":                        {changed, wordsOf(w("ida", "declined", "", "rule")), nil},
	} {
		assert.Equal(t, c.stop, Sum(c.of, c.words).Stoppers("mara"), name)
	}
}

// What is written in part is approved by who approved that part, and the rest is said by who said it.
func TestWhoSettlesAPart(t *testing.T) {
	changed := Finding{Status: match.Changed, InTarget: true, Fields: []Field{{"x", match.MovedSource}, {"y", match.MovedSource}}}
	s := Sum(changed, wordsOf([]string{"ida", "declined", ""}, []string{"mara", "approved", "x", "overrules"}))
	assert.Equal(t, "mara 02", s.DecidedBy+" "+s.DecidedAt)
	for field, want := range map[string]string{"x": "mara", "y": "ida"} {
		who, _, _, _ := s.SaidOn(field)
		assert.Equal(t, want, who, field)
	}
	s = Sum(changed, wordsOf([]string{"ida", "declined", ""}))
	assert.Equal(t, "ida", s.DecidedBy)
}
