package record

import (
	"bytes"
	"strconv"
	"unicode/utf8"
)

// What an engine writes is nearly always in its canonical form already, or a character away
// from it. Such a text goes from the wire into a line without a Value in between. The way over
// Parse, AppendValue and NewKey stays for all that is in another form, and a test holds both
// against each other.

// Plain gives the canonical text of a text that an engine delivered, for the kinds and forms
// that are common; ok is false where it takes Parse to tell. The result may share memory with
// the text or with room, which is used where a form has to be written.
func Plain(kind Kind, text, room []byte) (canonical []byte, ok bool) {
	switch kind {
	case Text:
		return text, utf8.Valid(text)
	case Integer:
		return text, plainInteger(text)
	case Decimal:
		return plainDecimal(text)
	case Boolean:
		switch string(text) {
		case "t", "true":
			return strconv.AppendBool(room[:0], true), true
		case "f", "false":
			return strconv.AppendBool(room[:0], false), true
		}
		return nil, false
	case Date:
		return text, len(text) == 10 && plainDate(text)
	case Timestamp, LocalTimestamp:
		return plainTimestamp(kind, text, room)
	default:
		return nil, false
	}
}

func plainDecimal(text []byte) (canonical []byte, ok bool) {
	whole, fraction, point := bytes.Cut(text, []byte{'.'})
	if !point {
		return text, plainInteger(text)
	}
	zero := len(whole) == 1 && whole[0] == '0'
	if !zero && !plainInteger(whole) || len(fraction) == 0 || !allDigits(fraction) {
		return nil, false // with a minus before a zero, among others
	}
	for len(fraction) > 0 && fraction[len(fraction)-1] == '0' {
		fraction = fraction[:len(fraction)-1]
	}
	if len(fraction) == 0 {
		return whole, true
	}
	return text[:len(whole)+1+len(fraction)], true
}

func plainTimestamp(kind Kind, text, room []byte) (canonical []byte, ok bool) {
	if kind == Timestamp {
		if !bytes.HasSuffix(text, []byte("+00")) {
			return nil, false
		}
		text = text[:len(text)-3]
	}
	if !plainMoment(text) {
		return nil, false
	}
	out := append(append(append(room[:0], text[:10]...), 'T'), text[11:]...)
	if kind == Timestamp {
		out = append(out, 'Z')
	}
	return out, true
}

// plainInteger reports whether a text is a whole number as a line has it.
func plainInteger(text []byte) bool {
	if len(text) > 0 && text[0] == '-' {
		if text = text[1:]; len(text) > 0 && text[0] == '0' {
			return false
		}
	}
	return len(text) > 0 && len(text) < 16 && (text[0] != '0' || len(text) == 1) && allDigits(text)
}

func allDigits(text []byte) bool {
	for _, c := range text {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// plainDate reports whether a text begins with a date that every calendar has.
func plainDate(text []byte) bool {
	two := func(at int) int { return int(text[at]-'0')*10 + int(text[at+1]-'0') }
	if text[4] != '-' || text[7] != '-' || !allDigits(text[:4]) || !allDigits(text[5:7]) || !allDigits(text[8:10]) ||
		string(text[:4]) == "0000" {
		return false
	}
	month, day := two(5), two(8)
	return month >= 1 && month <= 12 && day >= 1 && day <= daysOf[month-1]
}

// daysOf are the days of each month in a year that is no leap year; what goes beyond is left
// to the calendar.
var daysOf = [...]int{31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// plainMoment reports whether a text is a date and a time with a blank between.
func plainMoment(text []byte) bool {
	if len(text) < 19 || !plainDate(text) || text[10] != ' ' || text[13] != ':' || text[16] != ':' ||
		!allDigits(text[11:13]) || !allDigits(text[14:16]) || !allDigits(text[17:19]) || string(text[11:13]) > "23" ||
		text[14] > '5' || text[17] > '5' {
		return false
	}
	if len(text) == 19 {
		return true
	}
	fraction := text[20:]
	return text[19] == '.' && len(fraction) > 0 && len(fraction) <= 6 && allDigits(fraction) && fraction[len(fraction)-1] != '0'
}

// AppendPlain writes a value of which Plain gave the canonical text, as a line has it.
func AppendPlain(out []byte, kind Kind, canonical []byte) []byte {
	switch kind {
	case Integer, Boolean:
		return append(out, canonical...)
	case Text:
		return appendBytes(out, canonical)
	default:
		return append(append(append(out, '"'), canonical...), '"')
	}
}

// appendBytes is appendString.
func appendBytes(out, s []byte) []byte {
	for _, c := range s {
		if c < 0x20 || c == '"' || c == '\\' {
			return appendString(out, string(s))
		}
	}
	return append(append(append(out, '"'), s...), '"')
}

// AppendPlainOrder writes the order form of a part of a key, of which Plain gave the canonical
// text; ok is false where the part has to be brought to another form first.
func AppendPlainOrder(out []byte, kind Kind, rule Rule, canonical []byte) (order []byte, ok bool) {
	switch kind {
	case Text:
		if rule.FoldCase || rule.Trim || rule.BlankIsNull {
			return out, false
		}
		for _, c := range canonical {
			if c == 0 || c >= utf8.RuneSelf {
				return out, false
			}
		}
		return append(append(append(out, orderText), canonical...), 0x00, 0x01), true
	case Boolean:
		if canonical[0] == 't' {
			return append(out, orderBoolean, 1), true
		}
		return append(out, orderBoolean, 0), true
	case Integer, Decimal:
		return appendNumber(append(out, orderNumber), string(canonical)), true
	case Timestamp:
		canonical = canonical[:len(canonical)-1]
	}
	return append(append(append(out, orderText), canonical...), 0x00, 0x01), true
}

// AppendOrder writes the order form of a part of a key under its rule.
func AppendOrder(out []byte, rule Rule, v Value) []byte {
	rule.NFC = true
	return appendOrder(out, rule.Form(v))
}

// OpenReference begins the order form of a reference; the parts of the key that it points at
// come after, and CloseReference ends it.
func OpenReference(out []byte) []byte { return append(out, orderRef) }

// CloseReference ends what OpenReference began.
func CloseReference(out []byte) []byte { return append(out, orderEnd) }

// AppendName writes a field's name, a colon after it.
func AppendName(out []byte, name string) []byte { return append(appendString(out, name), ':') }

// AppendExtras gives a line of key and values alone the rest of what a line can have.
func AppendExtras(out []byte, r Record) []byte {
	out = append(out, r.Line[:len(r.Line)-1]...)
	return append(appendExtras(out, r), '}')
}
