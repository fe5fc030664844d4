package check

import (
	"encoding/hex"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Fits checks a value that would be written into a column of the target; must says that
// a new record cannot do without it. ok is true where there is something to say.
func Fits(address, target string, column catalog.Column, v record.Value, must bool) (c Check, ok bool) {
	wrong := misfit(column, v)
	if wrong == "" {
		return Check{}, false
	}
	ways := []Way{do(CorrectValue), do(DeclineFieldOnly, column.Name)}
	if must {
		ways[1] = do(Decline, "the record")
	}
	if v.IsNull() {
		ways = []Way{do(GiveInSource), do(Decline, "the record")}
	}
	return blocker(ValueDoesNotFit, fmt.Sprintf("%s: field %s %s in %s.", address, column.Name, wrong, target), ways...), true
}

// Once checks a value that the target takes only when a record is made.
func Once(address, target, field string) Check {
	return blocker(ValueDoesNotFit, fmt.Sprintf("%s: field %s is given in %s when a record is made, and cannot be changed after.",
		address, field, target), do(DeclineFieldOnly, field))
}

// misfit says in what a value does not fit, "" where it does.
func misfit(column catalog.Column, v record.Value) string {
	if v.IsNull() {
		if column.Required && !column.Default {
			return "is null, and a value is required"
		}
		return ""
	}
	if wrong := misfitDay(column.Limits, v); wrong != "" {
		return wrong
	}
	switch v.Kind() {
	case record.Date, record.Time, record.Timestamp, record.LocalTimestamp: // an engine writes them in a form of its own
		return ""
	case record.Reference, record.Woven, record.Bytes: // what is stored is not this text
		return ""
	case record.Boolean:
		if column.Kind != record.Boolean {
			return ""
		}
	}
	if kind, wrong := otherKind(column, v); wrong {
		return fmt.Sprintf("is %q, which is no %s", v.Text(), kind)
	}
	if column.Kind == record.Bytes { // a text that is bytes in hexadecimal
		return misfitHex(column.Limits, v.Text())
	}
	if column.Element != record.Null && v.Kind() == record.JSON && !strings.HasPrefix(v.Text(), "[") {
		return "is no list, and the column holds one"
	}
	if wrong := misfitText(column.Limits, v.Text()); wrong != "" {
		return wrong
	}
	if v.Kind() != record.Integer && v.Kind() != record.Decimal {
		return ""
	}
	return misfitNumber(column.Limits, v)
}

// misfitDay is misfit for a day in a cell for dates.
func misfitDay(l catalog.Limits, v record.Value) string {
	if l.FirstDay == "" || v.Kind() != record.Date && v.Kind() != record.Text {
		return ""
	}
	day, err := record.Parse(record.Date, v.Text())
	if err != nil || day.Text() >= l.FirstDay && day.Text() <= l.LastDay {
		return ""
	}
	return fmt.Sprintf("is %s, and a cell for dates holds %s to %s", v.Text(), l.FirstDay, l.LastDay)
}

func misfitText(l catalog.Limits, text string) string {
	if l.Units > 0 {
		if n := len(utf16.Encode([]rune(text))); n > l.Units {
			return fmt.Sprintf("has %d characters, and %d fit", n, l.Units)
		}
	}
	if n := utf8.RuneCountInString(text); l.Characters > 0 && n > l.Characters {
		return fmt.Sprintf("has %d characters, and %d fit", n, l.Characters)
	}
	if l.Bytes > 0 && len(text) > l.Bytes {
		return fmt.Sprintf("has %d bytes, and %d fit", len(text), l.Bytes)
	}
	if len(l.OneOf) > 0 && !slices.Contains(l.OneOf, text) {
		return fmt.Sprintf("is %q, which is not among the allowed values (%s)", text, strings.Join(l.OneOf, ", "))
	}
	for _, member := range strings.Split(text, ",") {
		if len(l.AnyOf) > 0 && member != "" && !slices.Contains(l.AnyOf, member) {
			return fmt.Sprintf("holds %q, which is not among the allowed values (%s)", member, strings.Join(l.AnyOf, ", "))
		}
	}
	return ""
}

// misfitHex is misfit for bytes that are told as a text.
func misfitHex(l catalog.Limits, text string) string {
	content, err := hex.DecodeString(text)
	if err != nil || hex.EncodeToString(content) != text {
		return fmt.Sprintf("is %q, which is not bytes in lower-case hexadecimal", text)
	}
	if l.Bytes > 0 && len(content) > l.Bytes {
		return fmt.Sprintf("has %d bytes, and %d fit", len(content), l.Bytes)
	}
	return ""
}

func misfitNumber(l catalog.Limits, v record.Value) string {
	text := v.Text()
	if n := len(strings.Trim(strings.Replace(strings.TrimPrefix(text, "-"), ".", "", 1), "0")); l.Significant > 0 && n > l.Significant {
		return fmt.Sprintf("is %s, and a cell for numbers holds %d digits", text, l.Significant)
	}
	whole, fraction, _ := strings.Cut(strings.TrimPrefix(text, "-"), ".")
	if l.Digits > 0 {
		if n := len(strings.TrimLeft(whole, "0")); n > l.Digits-l.Scale {
			return fmt.Sprintf("is %s, and %d digits before the point fit", text, l.Digits-l.Scale)
		}
		if len(fraction) > l.Scale {
			return fmt.Sprintf("is %s, and would be rounded to %d digits after the point", text, l.Scale)
		}
	}
	if l.Least != "" && v.Kind() == record.Integer {
		n, okN := new(big.Int).SetString(text, 10)
		least, okL := new(big.Int).SetString(l.Least, 10)
		most, okM := new(big.Int).SetString(l.Most, 10)
		if okN && okL && okM && (n.Cmp(least) < 0 || n.Cmp(most) > 0) {
			return fmt.Sprintf("is %s, and %s to %s fit", text, l.Least, l.Most)
		}
	}
	return ""
}

// NoRight checks what the account would need a right for.
func NoRight(address, target, place string, isNew bool) Check {
	what := "change records of"
	if isNew {
		what = "add records to"
	}
	return blocker(NoRightCode, fmt.Sprintf("%s cannot be imported: the account may not %s %s in %s.", address, what, place, target),
		do(AskRight), do(Decline, "the record"))
}

// otherKind reports whether a column holds another kind of values, of which this is none.
func otherKind(column catalog.Column, v record.Value) (kind string, wrong bool) {
	switch column.Kind {
	case record.Integer:
		kind = "whole number"
	case record.Decimal:
		kind = "number"
	case record.Date, record.Time, record.Timestamp, record.LocalTimestamp:
		kind = column.Kind.String()
	default:
		return "", false
	}
	if v.Kind() == column.Kind || v.Kind() == record.Boolean {
		return kind, false
	}
	_, err := record.Parse(column.Kind, v.Text())
	return kind, err != nil
}

// Declined checks a new record of which a field was declined that the target requires.
func Declined(address, field, target string) Check {
	return blocker(ValueDoesNotFit, fmt.Sprintf("%s is new, and %s requires a value in field %s, which is not approved.", address,
		target, field),
		do(ApproveFieldToo, field), do(Decline, "the record"))
}

// Lacks checks a new record for which the target requires a value that the parcel does not
// carry. Where triggers may give it, that is a caution.
func Lacks(address, field, target string, triggers, ignored bool) Check {
	message := fmt.Sprintf("%s is new, and %s requires a value in field %s, which the parcel does not carry.", address, target, field)
	switch {
	case triggers:
		return caution(ValueDoesNotFit, message, say("nothing needs to be done where a trigger in %s fills it; a rehearsal tells", target))
	case ignored:
		return blocker(ValueDoesNotFit, message, do(TakeOutOfIgnore, field, target), do(Decline, "the record"))
	default:
		return blocker(ValueDoesNotFit, message, do(DefaultThere, field, target), do(Decline, "the record"))
	}
}

// Given checks a new record whose key has a number that the target gives by itself.
func Given(address, field, target string) Check {
	return blocker(ValueDoesNotFit, fmt.Sprintf("%s is new, and %s gives the numbers of field %s by itself and takes no others.",
		address, target, field),
		do(NameOtherKey), do(Decline, "the record"))
}

// LacksDerived checks a new record of which the target requires a field that the application
// makes from others.
func LacksDerived(address, field, target string) Check {
	return blocker(ValueDoesNotFit,
		fmt.Sprintf("%s is new, and %s requires a value in field %s, which its application makes from others.", address, target,
			field),
		do(DefaultOrLocal, field, target), do(Decline, "the record"))
}

// Breaks checks values that a rule of the target refuses.
//
// Free are those of its fields that a person can decline by themselves.
func Breaks(address string, rule catalog.Rule, free []string, target string) Check {
	fields := rule.Columns
	name := ""
	if rule.Name != "" {
		name = " (" + rule.Name + ")"
	}
	what, correct, without := "field "+fields[0]+" has a value", "the value", do(Decline, "the record")
	if len(fields) > 1 {
		what, correct = "fields "+strings.Join(fields, ", ")+" have values", "the values"
	}
	if len(free) > 0 {
		without = do(DeclineField, strings.Join(free, " or ")+", or the record")
	}
	return blocker(ValueDoesNotFit, fmt.Sprintf("%s: %s that a rule of %s refuses: %s%s.", address, what, target,
		strings.Join(strings.Fields(rule.Text), " "), name),
		do(CorrectInSource, correct), without)
}

// LocalValue says that a new record will have no value in a field that belongs to the target
// alone: a local field, for which the catalog can give one, or a secret one.
func LocalValue(address, field, target string, local, required bool) Check {
	switch {
	case required && local:
		return blocker(LocalNeeded, fmt.Sprintf("%s is new and needs a value in field %s, which belongs to %s alone.", address, field,
			target), do(GiveLocal, field, target))
	case required:
		return blocker(LocalNeeded, fmt.Sprintf("%s is new and needs a value in field %s, which belongs to %s alone.", address, field,
			target), do(CreateWithSecret, target))
	}
	message := fmt.Sprintf("%s is new and will have no value in field %s, which belongs to %s alone.", address, field, target)
	if local {
		return caution(LocalNeeded, message, do(GiveLocal, field, target), do(SetAfter, target))
	}
	return caution(LocalNeeded, message, do(SetAfter, target))
}
