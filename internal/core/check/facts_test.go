package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// item is a type of which a place has every kind of column that a rule is about.
var item = &catalog.Type{
	Name: "item", Key: []string{"code"}, ID: "id", PartOf: "", Local: map[string]map[string]string{"printer": {}, "given": {"production": "x"}},
	Secret: []string{"pin"}, Derived: []string{"total"}, Ignore: []string{"note"}, Refers: map[string]catalog.Reference{"unit_id": {To: []string{"unit"}}},
}

func text(s string) record.Value {
	v, err := record.TextValue(s)
	if err != nil {
		panic(err)
	}
	return v
}

func column(name string) catalog.Column { return catalog.Column{Name: name, Kind: record.Text} }

func required(name string) catalog.Column {
	return catalog.Column{Name: name, Kind: record.Text, Required: true}
}

// facts gives a record of item with a name and a size on either side; nil is a side without it.
func facts(status match.Status, source, target []record.Value, columns ...catalog.Column) Facts {
	key := record.NewKey([]record.Value{text("A")}, nil)
	f := Facts{
		Written: Written{Address: "item/A", Target: "production", Type: item, Place: catalog.Place{Name: "items", Columns: columns}, Adds: target == nil},
		Source:  "sandbox", Fields: []record.Field{{Name: "name", Kind: record.Text}, {Name: "size", Kind: record.Text}}, Keys: []record.Field{{Name: "code", Kind: record.Text}},
		Show: func(_ record.Field, v record.Value) *string { t := v.Text(); return &t },
	}
	f.Found = match.Finding{Key: key, Status: status}
	if source != nil {
		f.Found.Source = &record.Record{Key: key, Values: source, ChangedAt: "2026-10-01T08:00:00Z", ChangedBy: "ines"}
	}
	if target != nil {
		f.Found.Target = &record.Record{Key: key, Values: target, ChangedAt: "2026-10-02T08:00:00Z", ChangedBy: "omar"}
	}
	if source != nil && target != nil {
		f.Found.Differences = match.Compare(f.Fields, source, target, nil)
	}
	return f
}

func two(name, size string) []record.Value { return []record.Value{text(name), text(size)} }

// said gives code, level and field of checks.
func said(list []On) []string {
	out := []string{}
	for _, c := range list {
		line := string(c.Code) + " " + string(c.Level)
		if len(c.Fields) > 0 {
			line += " " + c.Fields[0]
		}
		out = append(out, line)
	}
	return out
}

func TestWhatTheFactsSay(t *testing.T) {
	with := func(f Facts, change func(*Facts)) Facts { change(&f); return f }
	suspect := func(f *Facts) { f.Suspects = []evidence.Suspect{{Type: "item", Field: "size", To: "unit"}} }
	moved := func(name, size match.Moved) func(*Facts) {
		return func(f *Facts) {
			f.Found.Differences[0].Moved, f.Found.Differences[1].Moved = name, size
		}
	}
	short := catalog.Column{Name: "name", Kind: record.Text, Limits: catalog.Limits{Characters: 2}}
	once := catalog.Column{Name: "size", Kind: record.Text, Once: true}
	for _, c := range []struct {
		name     string
		facts    Facts
		match    []string
		atImport []string // where all that differs is approved
	}{
		{"nothing to say of a new record", facts(match.New, two("a", "b"), nil, column("name")), nil, nil},
		{"nothing to say of a changed one", facts(match.Changed, two("a", "b"), two("c", "d"), column("name")), nil, nil},
		{"no right to add", with(facts(match.New, two("a", "b"), nil), func(f *Facts) { f.Place.CannotInsert = true }), []string{"no-right blocker"}, []string{"no-right blocker"}},
		{"no right to change", with(facts(match.Changed, two("a", "b"), two("a", "d")), func(f *Facts) { f.Place.CannotUpdate = true }), []string{"no-right blocker"}, []string{"no-right blocker"}},
		{"a right that is not needed", with(facts(match.Changed, two("a", "b"), two("a", "d")), func(f *Facts) { f.Place.CannotInsert = true }), nil, nil},
		{"nothing is written into a parcel", with(facts(match.New, two("long", "b"), nil, short, required("other")), func(f *Facts) { f.Unwritten, f.Place.CannotInsert = true, true }), nil, nil},
		{"only in the target", with(facts(match.TargetOnly, nil, two("a", "b")), func(f *Facts) { f.Place.CannotUpdate = true }), nil, nil},
		{"removed, without the right", with(facts(match.TargetOnly, nil, two("a", "b")), func(f *Facts) { f.Removes, f.Place.CannotDelete = true, true }), []string{"no-right blocker"}, []string{"no-right blocker"}},
		{"removed", with(facts(match.TargetOnly, nil, two("a", "b")), func(f *Facts) { f.Removes = true }), nil, nil},
		{"a key that occurs twice says nothing else", with(facts(match.Conflict, two("long", "b"), nil, short), func(f *Facts) { f.Found.Reasons = []match.Reason{match.Ambiguous} }), []string{"ambiguous-key blocker"}, []string{"value-does-not-fit blocker name"}},
		{"both moved", with(facts(match.Conflict, two("a", "b"), two("c", "d")), func(f *Facts) {
			moved(match.MovedBoth, match.MovedSource)(f)
			f.Found.Reasons = []match.Reason{match.BothMoved}
		}), []string{"both-moved caution"}, nil},
		{"retired and newer", with(facts(match.Conflict, two("a", "b"), two("c", "d")), func(f *Facts) { f.Found.Reasons = []match.Reason{match.RetiredInTarget, match.TargetNewer} }), []string{"retired-in-target caution", "target-newer caution"}, nil},
		{"too long", facts(match.Changed, two("long", "b"), two("a", "b"), short), []string{"value-does-not-fit blocker name"}, []string{"value-does-not-fit blocker name"}},
		{"too long, but the target moved it", with(facts(match.Changed, two("long", "b"), two("a", "d"), short), moved(match.MovedTarget, match.MovedSource)), nil, []string{"value-does-not-fit blocker name"}},
		{"too long, a side is to be chosen", with(facts(match.Conflict, two("long", "b"), two("a", "d"), short), moved(match.MovedTarget, match.MovedBoth)), []string{"value-does-not-fit blocker name"}, []string{"value-does-not-fit blocker name"}},
		{"given when made", facts(match.Changed, two("a", "b"), two("a", "d"), once), []string{"value-does-not-fit blocker size"}, []string{"value-does-not-fit blocker size"}},
		{"given when made, and new", facts(match.New, two("a", "b"), nil, once), nil, nil},
		{"required and not carried", facts(match.New, two("a", "b"), nil, required("other")), []string{"value-does-not-fit blocker"}, []string{"value-does-not-fit blocker"}},
		{"required, a trigger may fill it", with(facts(match.New, two("a", "b"), nil, required("other")), func(f *Facts) { f.Place.HasTriggers = true }), []string{"value-does-not-fit caution"}, []string{"value-does-not-fit caution"}},
		{"required, a trigger fills it", with(facts(match.New, two("a", "b"), nil, required("other")), func(f *Facts) { f.Place.Triggered = []string{"other"} }), nil, nil},
		{"required, the import fills it", with(facts(match.New, two("a", "b"), nil, required("changed_by")), func(f *Facts) { f.Filled = []string{"changed_by"} }), nil, nil},
		{"required, made from others", facts(match.New, two("a", "b"), nil, required("total")), []string{"value-does-not-fit blocker"}, []string{"value-does-not-fit blocker"}},
		{"required and ignored", facts(match.New, two("a", "b"), nil, required("note")), []string{"value-does-not-fit blocker"}, []string{"value-does-not-fit blocker"}},
		{"required, of a record that is there", facts(match.Changed, two("a", "b"), two("a", "d"), required("other")), nil, nil},
		{"a number that the target gives", facts(match.New, two("a", "b"), nil, catalog.Column{Name: "code", Given: true}), []string{"value-does-not-fit blocker"}, []string{"value-does-not-fit blocker"}},
		{"the target's own value is missing", facts(match.New, two("a", "b"), nil, required("printer")), []string{"local-needed blocker"}, []string{"local-needed blocker"}},
		{"the target's own value, not required", facts(match.New, two("a", "b"), nil, column("printer"), column("given")), []string{"local-needed caution"}, []string{"local-needed caution"}},
		{"a secret", facts(match.New, two("a", "b"), nil, required("pin")), []string{"local-needed blocker"}, []string{"local-needed blocker"}},
		{"new with what looks like an id", with(facts(match.New, two("a", "7"), nil), suspect), []string{"looks-like-id blocker"}, nil},
		{"changed to what looks like an id", with(facts(match.Changed, two("a", "7"), two("a", "6")), suspect), []string{"looks-like-id caution"}, nil},
		{"what looks like an id stays", with(facts(match.Changed, two("a", "7"), two("b", "7")), suspect), nil, nil},
	} {
		assert.ElementsMatch(t, c.match, said(c.facts.Checks()), "%s: at the match", c.name)
		c.facts.Approved = []string{"name", "size"}
		assert.ElementsMatch(t, c.atImport, said(c.facts.AtImport()), "%s: at the import", c.name)
	}
}

// What nobody approved is not asked about at the import, and what the target demands by now is.
func TestWhatIsApprovedIsAskedAgain(t *testing.T) {
	short := catalog.Column{Name: "name", Kind: record.Text, Limits: catalog.Limits{Characters: 2}}
	for _, c := range []struct {
		name     string
		facts    Facts
		approved []string
		want     []string
	}{
		{"approved", facts(match.Changed, two("long", "b"), two("a", "d"), short), []string{"name"}, []string{"value-does-not-fit blocker name"}},
		{"another field approved", facts(match.Changed, two("long", "b"), two("a", "d"), short), []string{"size"}, nil},
		{"nothing approved", facts(match.Changed, two("long", "b"), two("a", "d"), short), []string{}, nil},
		{"new without a field", facts(match.New, two("long", "b"), nil, short), []string{"size"}, nil},
		{"new without a field that is required by now", facts(match.New, two("a", "b"), nil, required("name"), column("size")), []string{"size"}, []string{"value-does-not-fit blocker"}},
		{"new with it", facts(match.New, two("a", "b"), nil, required("name"), column("size")), []string{"name"}, nil},
	} {
		c.facts.Approved = c.approved
		assert.ElementsMatch(t, c.want, said(c.facts.AtImport()), c.name)
	}
}

func TestHowFieldsMayComeToStand(t *testing.T) {
	stands := func(f Facts, names ...string) []string {
		out := []string{}
		for _, a := range f.After(names) {
			line := ""
			for _, v := range a.Values {
				line += v.Text() + " "
			}
			if a.Proposed {
				line += "proposed"
			}
			out = append(out, line)
		}
		return out
	}
	changed := facts(match.Changed, two("a", "b"), two("c", "d"))
	assert.Equal(t, []string{"a b proposed", "c b ", "a d "}, stands(changed, "name", "size"))
	assert.Equal(t, []string{"A a proposed"}, stands(changed, "code", "name"))
	assert.Empty(t, stands(facts(match.Changed, two("a", "b"), two("c", "b")), "size"), "it does not differ")
	assert.Equal(t, []string{"a b proposed"}, stands(facts(match.New, two("a", "b"), nil), "name", "size"))
	changed.Approved = []string{"size"}
	assert.Equal(t, []string{"c b "}, stands(changed, "name", "size"), "as approved")
	changed.Approved = []string{"other"}
	assert.Equal(t, []string{"c d "}, stands(changed, "name", "size"), "none of them approved")

	for _, approved := range [][]string{nil, {"name", "size"}, {"size"}} {
		added := facts(match.New, two("a", "b"), nil)
		added.Approved, changed.Approved = approved, approved
		assert.Equal(t, len(approved) != 1, added.Tells(added.After([]string{"name", "size"})[0]), "new with %v", approved)
		assert.True(t, changed.Tells(changed.After([]string{"name", "size"})[0]))
	}

	rule := catalog.Rule{Name: "sizes", Columns: []string{"name", "size"}}
	broken := facts(match.New, two("a", "b"), nil, required("name"))
	on := broken.Broken(rule, broken.After(rule.Columns)[0])
	assert.Equal(t, []string{"name", "size"}, on.Fields)
	assert.False(t, on.Partial)
	assert.Contains(t, on.Mend, "field size")
	assert.NotContains(t, on.Mend, "field name", "a new record cannot do without it")
	assert.True(t, on.Holds(func(string) bool { return true }))
	assert.False(t, on.Holds(func(name string) bool { return name == "size" }))

	null := After{Values: []record.Value{text("a"), record.NullValue()}}
	assert.False(t, null.Known())
	assert.True(t, broken.Demands([]string{"name"}, []string{"name"}))
	assert.False(t, broken.Demands([]string{"name", "size"}, []string{"name"}))
	assert.False(t, facts(match.Changed, two("a", "b"), two("c", "d")).Demands([]string{"name"}, []string{"name"}))
}

func TestRulesThatCanBeTried(t *testing.T) {
	place := catalog.Place{Rules: []catalog.Rule{{Text: "name", Columns: []string{"name"}}, {Text: "both", Columns: []string{"code", "size"}}, {Text: "unit", Columns: []string{"name", "unit_id"}}, {Text: "other", Columns: []string{"other"}}}}
	fields := []record.Field{{Name: "name", Kind: record.Text}, {Name: "size", Kind: record.Text}, {Name: "unit_id", Kind: record.Reference}}
	var got []string
	for _, rule := range Judged(item, place, []record.Field{{Name: "code", Kind: record.Text}}, fields) {
		got = append(got, rule.Text)
	}
	assert.Equal(t, []string{"name", "both"}, got)
}

func TestWhatARecordRefersTo(t *testing.T) {
	part := *item
	part.PartOf, part.Key = "unit", []string{"unit_id", "code"}
	unit := record.ReferenceValue("unit", record.NewKey([]record.Value{text("kg")}, nil))
	f := facts(match.New, []record.Value{text("a"), unit}, nil)
	f.Fields[1] = record.Field{Name: "size_unit", Kind: record.Reference, Refers: "unit"}
	f.Type, f.Keys = &part, []record.Field{{Name: "unit_id", Kind: record.Reference, Refers: "unit"}, {Name: "code", Kind: record.Text}}
	f.Found.Key = record.NewKey([]record.Value{unit, text("A")}, nil)
	var got []string
	for _, m := range f.Mentions() {
		line := m.Field
		if m.Owner {
			line += " owner"
		}
		if m.Required {
			line += " required"
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{"unit_id owner required", "size_unit"}, got)
}
