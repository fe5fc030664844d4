package record

import (
	"fmt"
	"strconv"
	"strings"
)

// maxDigits bounds the digits of a number, so that a short text such as
// 1e999999999 cannot ask for gigabytes.
const maxDigits = 20000

// canonicalInteger gives digits without leading zeros, with "-" where negative.
func canonicalInteger(s string) (string, error) {
	text, err := canonicalDecimal(s)
	if err != nil {
		return "", fmt.Errorf("%s is not an integer", clip(s))
	}
	if strings.Contains(text, ".") {
		return "", fmt.Errorf("%s is not a whole number", clip(s))
	}
	return text, nil
}

// canonicalDecimal gives [-]digits[.digits] without leading or trailing zeros and
// without an exponent; zero is "0".
func canonicalDecimal(s string) (string, error) {
	bad := func() error { return fmt.Errorf("%s is not a number", clip(s)) }
	rest, negative := s, false
	if strings.HasPrefix(rest, "-") || strings.HasPrefix(rest, "+") {
		negative, rest = rest[0] == '-', rest[1:]
	}
	exponent := 0
	if i := strings.IndexAny(rest, "eE"); i >= 0 {
		e, err := strconv.Atoi(rest[i+1:])
		if err != nil {
			return "", bad()
		}
		exponent, rest = e, rest[:i]
	}
	whole, fraction, _ := strings.Cut(rest, ".")
	if whole == "" && fraction == "" || !digitsOnly(whole) || !digitsOnly(fraction) {
		return "", bad()
	}
	if exponent > maxDigits || exponent < -maxDigits || len(rest) > maxDigits {
		return "", fmt.Errorf("%s has more than %d digits", clip(s), maxDigits)
	}
	digits := whole + fraction
	point := len(whole) + exponent // digits before the point, may be outside the digits
	if point < 0 {
		digits, point = strings.Repeat("0", -point)+digits, 0
	}
	if point > len(digits) {
		digits += strings.Repeat("0", point-len(digits))
	}
	whole = strings.TrimLeft(digits[:point], "0")
	fraction = strings.TrimRight(digits[point:], "0")
	if whole == "" {
		whole = "0"
	}
	text := whole
	if fraction != "" {
		text += "." + fraction
	}
	if negative && text != "0" {
		text = "-" + text
	}
	return text, nil
}

func digitsOnly(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// clip quotes a text for a message and keeps it short.
func clip(s string) string {
	const most = 60
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + "…"
	}
	return strconv.Quote(s)
}
