package check

import (
	"slices"

	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// rule says what there is to say of a record.
type rule func(Facts) []On

// Checks are what the facts about one record say by themselves, in the order of the rules. What
// has to be looked up in the target is not among them.
func (f Facts) Checks() []On {
	rules := []rule{rights}
	switch {
	case f.Removes:
	case slices.Contains(f.Found.Reasons, match.CannotBeRead):
		rules = append(rules, unreadable)
	case match.Hopeless(f.Found.Reasons):
		rules = append(rules, ambiguous)
	case f.Found.Source == nil:
		rules = append(rules, conflicts, removedInSource)
	default:
		rules = append(rules, conflicts, unexplained, likeIDs, each(onlyWhenMade, fits), lacking, local)
	}
	var out []On
	for _, one := range rules {
		out = append(out, one(f)...)
	}
	return out
}

// AtImport are the checks that may have come up since the match because the place is another one;
// any blocker among them stops the record. Differences are those of the record as it is now.
func (f Facts) AtImport() []On {
	if f.Removes {
		return rights(f)
	}
	var out []On
	for _, one := range []rule{rights, each(onlyWhenMade, fits), lacking, declined, local} {
		out = append(out, one(f)...)
	}
	return out
}

// always gives checks that hold whatever is written.
func always(list ...Check) []On {
	out := make([]On, len(list))
	for i, c := range list {
		out[i] = On{Check: c}
	}
	return out
}

// rights: the account may write the record.
func rights(f Facts) []On {
	if f.Unwritten || !f.Removes && (f.Found.Source == nil || f.Found.Status == match.TargetOnly) {
		return nil
	}
	if missing, bad := f.Rights(); bad {
		return always(missing)
	}
	return nil
}

// ambiguous: the key occurs once on either side.
func ambiguous(f Facts) []On {
	return always(Ambiguity(f.Address, f.Source, f.Target, f.Found.SourceIDs, f.Found.TargetIDs, f.Within))
}

// unreadable: which values of which side have no form here.
func unreadable(f Facts) []On {
	var out []Check
	for _, side := range []struct {
		environment string
		of          *record.Record
	}{{f.Source, f.Found.Source}, {f.Target, f.Found.Target}} {
		if side.of == nil {
			continue
		}
		for i, v := range side.of.Values {
			if why, ok := v.Unreadable(); ok {
				out = append(out, CannotRead(f.Address, side.environment, f.Fields[i].Name, why, side.of == f.Found.Source))
			}
		}
	}
	return always(out...)
}

// conflicts: what is behind each reason of a conflict.
func conflicts(f Facts) []On {
	if f.Found.Status != match.Conflict {
		return nil
	}
	source, target := f.sides()
	var both []string
	for _, d := range f.Found.Differences {
		if d.Moved == match.MovedBoth {
			both = append(both, f.FieldOf(d).Name)
		}
	}
	var out []On
	for _, reason := range f.Found.Reasons {
		if f.Back != 0 && reason == match.BothMoved {
			out = append(out, On{Check: editedSince(f.Address, both, f.Back, target)})
		} else if reason == match.CreatedOnBoth {
			out = append(out, On{Check: madeTwice(f.Address, f.Type.Name, f.Covered, source, target)})
		} else if c, ok := Conflict(string(reason), f.Address, both, source, target); ok {
			out = append(out, On{Check: c})
		}
	}
	return out
}

// removedInSource: what both sides had and only the target has by now is named with since when.
func removedInSource(f Facts) []On {
	if !slices.Contains(f.Found.Reasons, match.RemovedInSource) {
		return nil
	}
	var edited []string
	if f.Found.Agreed != nil {
		for _, d := range match.Compare(f.Fields, f.Found.Agreed.Values, f.Found.Target.Values, nil) {
			edited = append(edited, f.Fields[d.Field].Name)
		}
	}
	_, target := f.sides()
	return always(goneFromSource(f.Address, f.Source, known.NotesOf(f.Found.Agreed).Gone, edited, target))
}

// sides give when and by whom the record was last changed on either side.
func (f Facts) sides() (source, target Side) {
	return sideOf(f.Source, f.Zones[0], f.Found.Source, f.Found.Agreed), sideOf(f.Target, f.Zones[1], f.Found.Target, f.Found.Agreed)
}

// unexplained: what differs though by the stamps nobody changed it is named.
func unexplained(f Facts) []On {
	if !f.Found.Unexplained {
		return nil
	}
	source, target := f.sides()
	return always(cannotBeExplained(f.Address, source, target))
}

// likeIDs: nothing that behaves like an internal id comes in as a plain value.
func likeIDs(f Facts) []On {
	var out []On
	for _, s := range f.Suspects {
		if value, differs := f.suspected(s.Field); differs {
			out = append(out, On{Check: LikeID(f.Address, value, f.Type.Name, s, f.Adds)})
		}
	}
	return out
}

// suspected gives the value that the record would bring into a field, as it is shown.
func (f Facts) suspected(field string) (string, bool) {
	for _, p := range f.Proposed() {
		if p.Field.Name != field || !f.Adds && !f.writes(field) || p.Value.IsNull() || p.Value.IsAbsent() {
			continue
		}
		if shown := f.Show(p.Field, p.Value); shown != nil {
			return shortened(*shown), true
		}
	}
	return "", false
}

// writes reports whether the finding by itself proposes to write a field that is no part of the
// key.
func (f Facts) writes(field string) bool {
	return slices.ContainsFunc(f.Found.Differences, func(d match.Difference) bool {
		return !d.Key && f.Fields[d.Field].Name == field && match.Propose(f.Found.Status, d.Moved) == match.Write
	})
}

// mostShown is how much of a value a check shows, in characters.
const mostShown = 40

func shortened(text string) string {
	if runes := []rune(text); len(runes) > mostShown {
		return string(runes[:mostShown]) + "…"
	}
	return text
}

// each asks questions about every value that may be written.
func each(questions ...func(Facts, record.Field, record.Value) (Check, bool)) rule {
	return func(f Facts) []On {
		if f.Unwritten {
			return nil
		}
		var out []On
		for _, p := range f.Proposed() {
			for _, ask := range questions {
				if c, bad := ask(f, p.Field, p.Value); bad {
					out = append(out, On{Check: c, Fields: []string{p.Field.Name}, Writes: []string{p.Field.Name}})
				}
			}
		}
		return out
	}
}

// onlyWhenMade: a field that the target takes only when a record is made does not change.
func onlyWhenMade(f Facts, field record.Field, v record.Value) (Check, bool) {
	given := func(name string) bool {
		column, ok := f.Place.Column(name)
		return ok && column.Once
	}
	if f.Adds || v.IsAbsent() || !slices.ContainsFunc(f.Type.Stored(field.Name), given) {
		return Check{}, false
	}
	return Once(f.Address, f.Target, field.Name), true
}

// fits: the column takes the value.
func fits(f Facts, field record.Field, v record.Value) (Check, bool) { return f.Value(field.Name, v) }

// lacking: a new record gets all that its place requires.
func lacking(f Facts) []On {
	if !f.Adds || f.Unwritten {
		return nil
	}
	var out []On
	for _, column := range f.Place.Columns {
		if column.Given && slices.Contains(f.Type.Key, column.Name) {
			out = append(out, On{Check: Given(f.Address, column.Name, f.Target)})
		}
		_, local := f.Type.Local[column.Name]
		carried := slices.Contains(f.Type.Key, column.Name) || record.FieldAt(f.Fields, column.Name) >= 0 || f.Type.Serves(column.Name)
		filled := column.Default || column.Derived || column.Name == f.Type.ID || slices.Contains(f.Place.Triggered, column.Name) ||
			slices.Contains(f.Filled, column.Name)
		switch {
		case !column.Required || carried || filled || local || slices.Contains(f.Type.Secret, column.Name):
		case slices.Contains(f.Type.Derived, column.Name):
			out = append(out, On{Check: LacksDerived(f.Address, column.Name, f.Target)})
		default:
			out = append(out, On{Check: Lacks(f.Address, column.Name, f.Target, f.Place.HasTriggers, f.Type.Ignores(column.Name))})
		}
	}
	return out
}

// declined: a new record is given the fields that its place requires by now.
func declined(f Facts) []On {
	if !f.Adds {
		return nil
	}
	var out []On
	for _, name := range Required(f.Place, f.Fields) {
		if !slices.Contains(f.Approved, name) {
			out = append(out, On{Check: Declined(f.Address, name, f.Target)})
		}
	}
	return out
}

// local: a new record gets what only the target can know.
func local(f Facts) []On {
	if !f.Adds {
		return nil
	}
	var out []On
	for _, column := range f.Place.Columns {
		values, local := f.Type.Local[column.Name]
		_, given := values[f.Target]
		if !local && !slices.Contains(f.Type.Secret, column.Name) || column.Default || given {
			continue
		}
		out = append(out, On{Check: LocalValue(f.Address, column.Name, f.Target, local, column.Required)})
	}
	return out
}
