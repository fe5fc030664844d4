package translate

import (
	"errors"
	"strings"
)

// valueError is a stored value that has no canonical form. It is about one value: others can be
// read all the same.
type valueError struct {
	cause error
	why   string // without advice, which a finding gives itself; "" is cause
}

func (e valueError) Error() string { return e.cause.Error() }

func (e valueError) Unwrap() error { return e.cause }

// CannotRead reports whether an error is about a stored value that has no canonical form.
func CannotRead(err error) bool {
	var of valueError
	return errors.As(err, &of)
}

// mostWhy is how many characters say why a value cannot be read.
const mostWhy = 300

// Why says in a text that can be kept why a value cannot be read.
func Why(err error) string {
	why := err.Error()
	var of valueError
	if errors.As(err, &of) {
		if why = of.why; why == "" {
			why = of.cause.Error()
		}
	}
	text := []rune(strings.ToValidUTF8(why, "\ufffd"))
	if len(text) > mostWhy {
		text = append(text[:mostWhy], '…')
	}
	return string(text)
}
