package check

import (
	"fmt"
	"strings"

	"anagram/internal/core/evidence"
)

// IDMend says what to do about a field that seems to hold internal ids of a type, "" where it
// cannot be told of which.
func IDMend(field, to, form, text string) string {
	if to == "" {
		to = "TYPE"
	}
	if form != "" {
		to = fmt.Sprintf("{to: %s, %s: %q}", to, form, text)
	}
	return fmt.Sprintf("Say in the catalog what it points at (refers: {%s: %s}), leave it out (ignore: [%s]), or say that its numbers mean the same everywhere (plain: [%s]).", field, to, field, field)
}

// IDFacts says of a field of a type why it looks like an internal id.
func IDFacts(typ, field, to, form string, key bool) string {
	where := fmt.Sprintf("Field %s of %s", field, typ)
	if key {
		where = fmt.Sprintf("Field %s in the key of %s", field, typ)
	}
	if to == "" {
		return where + " is named like an internal id, which differs in every environment, and the catalog has it as a plain number."
	}
	if form != "" {
		return fmt.Sprintf("%s has internal ids of %s within its values, which differ in every environment, and the catalog takes them as they are.", where, to)
	}
	return fmt.Sprintf("%s holds nothing but internal ids of %s, which differ in every environment, and the catalog has it as a plain number.", where, to)
}

// LikeID checks a record that would be written with what looks like an internal id: what would
// be new by it is stopped.
func LikeID(address, value, typ string, s evidence.Suspect, isNew bool) Check {
	c := caution(LooksLikeID, "", do(SayWhatItIs, IDMend(s.Field, s.To, s.Form, s.Text)))
	verb := "would get"
	if isNew {
		c.Level, verb = Blocker, "would be new with"
	}
	c.Message = fmt.Sprintf("%s %s %s in field %s. %s", address, verb, value, s.Field, IDFacts(typ, s.Field, s.To, s.Form, s.Key))
	return c
}

// HardlyMeets checks a type whose records come out as new and as only in the target at once;
// ok is false where enough of them met.
func HardlyMeets(typ string, key []string, source, target string, isNew, only, met int) (Check, bool) {
	const some, share = 10, 10
	if isNew < some || only < some || met*share >= min(isNew, only) {
		return Check{}, false
	}
	return caution(LooksLikeID,
		fmt.Sprintf("Hardly any %s of %s meets one of %s: %d are new and %d are only in %s, by the key [%s]. What differs by environment, such as an internal id, may be in it.", typ, source, target, isNew, only, target, strings.Join(key, ", ")),
		do(CompareSome, typ)), true
}
