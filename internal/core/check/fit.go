package check

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
	"unicode/utf8"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Fits checks a value that would be written into a column of the target. ok is true where
// there is something to say.
func Fits(address, target string, column catalog.Column, v record.Value) (c Check, ok bool) {
	wrong := misfit(column, v)
	if wrong == "" {
		return Check{}, false
	}
	c = Check{ValueDoesNotFit, Blocker, fmt.Sprintf("%s: field %s %s in %s.", address, column.Name, wrong, target), ""}
	c.Mend = fmt.Sprintf("Correct the value in the source, then export and match again; or approve the record without it: --field for the others, or decline field %s.", column.Name)
	if v.IsNull() {
		c.Mend = "Give it a value in the source, then export and match again; or decline the record."
	}
	return c, true
}

// misfit says in what a value does not fit, "" where it does.
func misfit(column catalog.Column, v record.Value) string {
	if v.IsNull() {
		if column.Required && !column.Default {
			return "is null, and a value is required"
		}
		return ""
	}
	text := v.Text()
	switch v.Kind() {
	case record.Date, record.Time, record.Timestamp, record.LocalTimestamp: // an engine writes them in a form of its own
		return ""
	}
	if v.Kind() == record.Boolean && column.Kind != record.Boolean || v.Kind() == record.Reference || v.Kind() == record.Woven || v.Kind() == record.Bytes {
		return ""
	}
	l := column.Limits
	if n := utf8.RuneCountInString(text); l.Characters > 0 && n > l.Characters {
		return fmt.Sprintf("has %d characters, and %d fit", n, l.Characters)
	}
	if l.Bytes > 0 && len(text) > l.Bytes {
		return fmt.Sprintf("has %d bytes, and %d fit", len(text), l.Bytes)
	}
	if len(l.OneOf) > 0 && !slices.Contains(l.OneOf, text) {
		return fmt.Sprintf("is %q, which is not among the allowed values (%s)", text, strings.Join(l.OneOf, ", "))
	}
	if v.Kind() != record.Integer && v.Kind() != record.Decimal {
		return ""
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
	return Check{NoRightCode, Blocker, fmt.Sprintf("%s cannot be imported: the account may not %s %s in %s.", address, what, place, target),
		"Ask for that right and match again, or decline the record."}
}

// About reports whether a value that does not fit is that of a field.
func About(c Check, field string) bool {
	return c.Code == ValueDoesNotFit && strings.Contains(c.Message, ": field "+field+" ")
}
