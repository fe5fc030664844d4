package web

import "errors"

// mostNested is how deep JSON may be nested, more than anything a person would make.
const mostNested = 128

// Shallow refuses JSON that is nested too deep, before any of it is taken up.
func Shallow(text []byte) error {
	depth, within, escaped := 0, false, false
	for _, b := range text {
		switch {
		case escaped:
			escaped = false
		case within:
			escaped, within = b == '\\', b != '"'
		case b == '"':
			within = true
		case b == '{' || b == '[':
			if depth++; depth > mostNested {
				return errors.New("it is nested too deep")
			}
		case b == '}' || b == ']':
			depth--
		}
	}
	return nil
}
