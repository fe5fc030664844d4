package sheet

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"anagram/internal/core/pattern"
)

// What a workbook's cell holds is read as the person sees it: a number in its shortest form,
// whatever digits its floating point form was written with; a date as a date, and a boolean
// as one (ECMA-376 Part 1, 18.3.1.4 and 18.8.30).

// shown is how a number of some style is shown.
type shown int

const (
	asNothing shown = iota // an empty cell
	asText
	asBoolean
	asNumber
	asDate
	asTime
	asDateTime
)

// builtIn are the formats of dates and times that every workbook has, by number.
var builtIn = map[int]shown{14: asDate, 15: asDate, 16: asDate, 17: asDate, 18: asTime, 19: asTime, 20: asTime, 21: asTime,
	22: asDateTime, 45: asTime, 46: asTime, 47: asTime}

var (
	literals = pattern.Of(`"[^"]*"|\\.|_.|\[[^\]]*\]`)
	colours  = pattern.Of(`;.*`)
)

// formatOf reads a format of the workbook's own.
func formatOf(code string) shown {
	code = strings.ToLower(colours.ReplaceAllString(literals.ReplaceAllString(code, ""), ""))
	date, clock := strings.ContainsAny(code, "yd"), strings.ContainsAny(code, "hs")
	switch {
	case strings.ContainsAny(code, "0#?"):
		if !date && !clock {
			return asNumber
		}
		fallthrough
	default:
		switch {
		case date && clock:
			return asDateTime
		case date:
			return asDate
		case clock:
			return asTime
		}
		return asNumber
	}
}

// style tells how numbers of a style are shown.
func (b *Book) style(id int) shown {
	if known, ok := b.styles[id]; ok {
		return known
	}
	out := asNumber
	if style, err := b.file.GetStyle(id); err == nil {
		if style.CustomNumFmt != nil {
			out = formatOf(*style.CustomNumFmt)
		} else {
			out = builtIn[style.NumFmt]
		}
		out = max(out, asNumber)
	}
	b.styles[id] = out
	return out
}

// text gives a cell as the person sees it, and what kind of cell it is; raw is what is stored.
func (b *Book) text(title, at, raw string) (string, shown, error) {
	if raw == "" {
		return raw, asNothing, nil
	}
	kind, err := b.file.GetCellType(title, at)
	if err != nil {
		return raw, asText, err
	}
	switch kind {
	case excelize.CellTypeBool:
		return map[bool]string{true: "true", false: "false"}[raw == "1" || strings.EqualFold(raw, "true")], asBoolean, nil
	case excelize.CellTypeUnset, excelize.CellTypeNumber, excelize.CellTypeFormula:
	default:
		return raw, asText, nil
	}
	number, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return raw, asText, nil // what is no number is a text, whatever the cell says
	}
	id, err := b.file.GetCellStyle(title, at)
	if err != nil {
		return raw, asText, err
	}
	if as := b.style(id); as != asNumber {
		if moment, ok := momentOf(as, b.from1904, number); ok {
			return moment, as, nil
		}
	}
	return shortest(raw, number), asNumber, nil
}

// shortest writes a number with the fifteen digits that spreadsheets keep and show: what a
// floating point number has beyond is of no person's making. Whole numbers that are longer
// are left as they are.
func shortest(raw string, number float64) string {
	if math.Abs(number) >= 1e15 && !strings.ContainsAny(raw, ".eE") {
		return raw
	}
	if kept, err := strconv.ParseFloat(strconv.FormatFloat(number, 'g', 15, 64), 64); err == nil {
		number = kept
	}
	return strconv.FormatFloat(number, 'f', -1, 64)
}

// Form is what the cells of a column have in common.
type Form struct {
	as    shown
	style int // of the last cell that holds something
}

// Dates reports whether they are dates, and no times.
func (f Form) Dates() bool { return f.as == asDate }

// Numbers reports whether they are numbers.
func (f Form) Numbers() bool { return f.as == asNumber }

// Booleans reports whether they are booleans.
func (f Form) Booleans() bool { return f.as == asBoolean }

// with adds a cell to a column.
func (f Form) with(as shown, style int) Form {
	switch {
	case as == asNothing:
		return f
	case f.as == asNothing:
		return Form{as, style}
	case f.as != as:
		return Form{asText, style} // of several kinds: a new one is a text
	}
	f.style = style
	return f
}

// Forms gives what the cells below the first row have in common, by column, from what Rows read.
func (b *Book) Forms(title string) []Form { return b.forms[title] }

func (b *Book) note(title string, column int, as shown, at string) error {
	style, err := b.file.GetCellStyle(title, at)
	for len(b.forms[title]) <= column {
		b.forms[title] = append(b.forms[title], Form{})
	}
	b.forms[title][column] = b.forms[title][column].with(as, style)
	return err
}

// Set changes a cell to a text as Rows gives it; the cell goes on holding a number, a date
// or a boolean where it did and can. One that is empty is filled as others of its column are.
//
// A formula is not overwritten: what it makes would be, at the next calculation. A text that
// is longer than a cell may be is an error: other programs would cut it.
func (b *Book) Set(title, at, text string, like Form) error {
	formula, err := b.file.GetCellFormula(title, at)
	if err != nil {
		return err
	}
	if f := strings.ToUpper(strings.TrimPrefix(formula, "=")); f == "TRUE()" || f == "FALSE()" { // how some programs save a boolean
		if err := b.file.SetCellFormula(title, at, ""); err != nil {
			return err
		}
	} else if formula != "" {
		return fmt.Errorf("cell %s of sheet %s holds a formula, which would make its own value again. Change it there, or decline the field", at, title)
	}
	if n := Units(text); n > MaxCell {
		return fmt.Errorf("cell %s of sheet %s would have %d characters, and %d fit. Decline the field, or shorten the value in the source", at, title, n, MaxCell)
	}
	raw, err := b.file.GetCellValue(title, at, excelize.Options{RawCellValue: true})
	if err != nil {
		return err
	}
	_, as, err := b.text(title, at, raw)
	if err != nil {
		return err
	}
	if as == asNothing {
		as = like.as
		if style, err := b.file.GetCellStyle(title, at); err != nil {
			return err
		} else if style == 0 && like.style != 0 {
			if err := b.file.SetCellStyle(title, at, at, like.style); err != nil {
				return err
			}
		}
	}
	return b.set(title, at, text, as)
}

func (b *Book) set(title, at, text string, as shown) error {
	switch as {
	case asBoolean:
		if text == "true" || text == "false" {
			return b.file.SetCellBool(title, at, text == "true")
		}
	case asNumber:
		if value, err := strconv.ParseFloat(text, 64); err == nil && shortest(text, value) == text {
			return b.file.SetCellDefault(title, at, text)
		}
	case asDate, asTime, asDateTime:
		if raw, ok := numberOf(as, b.from1904, text); ok {
			return b.file.SetCellDefault(title, at, raw)
		}
	}
	return b.file.SetCellStr(title, at, escaped(text))
}

// escape is what a workbook takes for a character by its number (ECMA-376 Part 1, 22.9.2.19).
var escape = pattern.Of(`_x[0-9A-Fa-f]{4}_`)

// escaped writes a text so that no part of it is taken for a character by its number. Each
// underscore that begins one is itself written so, those too that end the one before.
func escaped(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	var out strings.Builder
	for i := range len(text) {
		if text[i] == '_' && i+7 <= len(text) && escape.MatchString(text[i:i+7]) {
			out.WriteString("_x005F")
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

// MaxCell is the longest text that a cell of a workbook holds, as Units counts.
const MaxCell = 32767

// Units counts the characters of a text as workbooks do, in UTF-16.
func Units(text string) (n int) {
	for _, r := range text {
		n += utf16.RuneLen(r)
	}
	return n
}

// Cell gives one cell as Rows gives it.
func (b *Book) Cell(title, at string) (string, error) {
	raw, err := b.file.GetCellValue(title, at, excelize.Options{RawCellValue: true})
	if err != nil {
		return "", err
	}
	text, _, err := b.text(title, at, raw)
	return text, err
}

// Remove takes a row away; those below it move up.
func (b *Book) Remove(title string, row int) error { return b.file.RemoveRow(title, row) }
