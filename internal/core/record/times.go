package record

import (
	"fmt"
	"strings"
	"time"
)

// Canonical forms, ISO 8601: 2026-11-23, 07:10:35.5, 2026-11-23T07:10:35.5 and
// the same with Z for an instant. Fractions have no trailing zeros.

var (
	dateForms  = []string{"2006-01-02"}
	timeForms  = []string{"15:04:05", "15:04"}
	localForms = []string{
		"2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02",
	}
	zonedForms = []string{
		"2006-01-02T15:04:05Z07:00", "2006-01-02 15:04:05Z07:00", "2006-01-02 15:04:05-07",
		"2006-01-02 15:04:05 -07:00", "2006-01-02T15:04Z07:00", "2006-01-02 15:04Z07:00",
	}
)

func parseTime(s, what string, forms []string) (time.Time, error) {
	for _, form := range forms {
		t, err := time.Parse(form, s) // a fraction after the seconds is always accepted
		if err != nil {
			continue
		}
		if t.Year() < 1 || t.Year() > 9999 {
			return t, fmt.Errorf("%s is outside the years 1 to 9999", clip(s))
		}
		if t.Nanosecond()%1000 != 0 {
			return t, fmt.Errorf("%s is finer than a microsecond", clip(s))
		}
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%s is not a %s", clip(s), what)
}

func canonicalDate(s string) (string, error) {
	t, err := parseTime(s, "date such as 2026-11-23", dateForms)
	if err != nil {
		// A date that an engine keeps with a time of midnight is still that date.
		if local, localErr := parseTime(s, "", localForms); localErr == nil && local.Truncate(24*time.Hour).Equal(local) {
			return local.Format(time.DateOnly), nil
		}
		return "", err
	}
	return t.Format(time.DateOnly), nil
}

func canonicalTime(s string) (string, error) {
	t, err := parseTime("2000-01-01 "+s, "time", prefixed("2006-01-02 ", timeForms))
	if err != nil {
		return "", fmt.Errorf("%s is not a time such as 07:10:35", clip(s))
	}
	return t.Format("15:04:05.999999"), nil
}

func canonicalLocalTimestamp(s string) (string, error) {
	t, err := parseTime(s, "timestamp without a zone such as 2026-11-23T07:10:35", localForms)
	if err != nil {
		return "", err
	}
	return t.Format("2006-01-02T15:04:05.999999"), nil
}

func canonicalTimestamp(s string) (string, error) {
	t, err := parseTime(s, "timestamp with a zone such as 2026-11-23T07:10:35Z", zonedForms)
	if err != nil {
		return "", err
	}
	t = t.UTC()
	if t.Year() < 1 || t.Year() > 9999 {
		return "", fmt.Errorf("%s is outside the years 1 to 9999", clip(s))
	}
	return t.Format("2006-01-02T15:04:05.999999") + "Z", nil
}

func prefixed(prefix string, forms []string) []string {
	out := make([]string, len(forms))
	for i, form := range forms {
		out[i] = prefix + form
	}
	return out
}

// sortableTime drops the Z, so that whole seconds sort before their fractions.
func sortableTime(text string) string { return strings.TrimSuffix(text, "Z") }
