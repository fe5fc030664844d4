package sheet

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"anagram/internal/core/pattern"
)

// What a workbook's cell holds is read as the person sees it: a number in its shortest form,
// whatever digits its floating point form was written with; a date as a date, and a boolean
// as one (ECMA-376 Part 1, 18.3.1.4 and 18.8.30).

// shown is how a number of some style is shown.
type shown int

const (
	asNumber shown = iota
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
	}
	b.styles[id] = out
	return out
}

// text gives a cell as the person sees it; raw is what is stored.
func (b *Book) text(title, at, raw string) (string, error) {
	if raw == "" {
		return raw, nil
	}
	kind, err := b.file.GetCellType(title, at)
	if err != nil {
		return raw, err
	}
	switch kind {
	case excelize.CellTypeBool:
		return map[bool]string{true: "true", false: "false"}[raw == "1" || strings.EqualFold(raw, "true")], nil
	case excelize.CellTypeUnset, excelize.CellTypeNumber, excelize.CellTypeFormula:
	default:
		return raw, nil
	}
	number, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return raw, nil // what is no number is a text, whatever the cell says
	}
	id, err := b.file.GetCellStyle(title, at)
	if err != nil {
		return raw, err
	}
	if as := b.style(id); as != asNumber && number >= 0 {
		if moment, err := excelize.ExcelDateToTime(number, b.from1904); err == nil {
			return moment.Round(time.Millisecond).Format(map[shown]string{asDate: time.DateOnly, asTime: "15:04:05.999",
				asDateTime: "2006-01-02 15:04:05.999"}[as]), nil
		}
	}
	return shortest(raw, number), nil
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

// Set changes a cell to a text as Rows gives it; the cell goes on holding a number, a date
// or a boolean where it did and can.
//
// A formula is not overwritten: what it makes would be, at the next calculation.
func (b *Book) Set(title, at, text string) error {
	formula, err := b.file.GetCellFormula(title, at)
	switch {
	case err != nil:
		return err
	case formula != "":
		return fmt.Errorf("cell %s of sheet %s holds a formula, which would make its own value again. Change it there, or decline the field", at, title)
	default:
		return b.set(title, at, text)
	}
}

func (b *Book) set(title, at, text string) error {
	kind, err := b.file.GetCellType(title, at)
	if err != nil {
		return err
	}
	raw, err := b.file.GetCellValue(title, at, excelize.Options{RawCellValue: true})
	if err != nil {
		return err
	}
	number := (kind == excelize.CellTypeUnset || kind == excelize.CellTypeNumber) && raw != ""
	if kind == excelize.CellTypeBool && (text == "true" || text == "false" || text == "1" || text == "0") {
		return b.file.SetCellBool(title, at, text == "true" || text == "1")
	}
	if !number {
		return b.file.SetCellStr(title, at, text)
	}
	id, err := b.file.GetCellStyle(title, at)
	if err != nil {
		return err
	}
	if as := b.style(id); as == asDate && !b.from1904 {
		if day, err := time.Parse(time.DateOnly, text); err == nil {
			return b.file.SetCellDefault(title, at, strconv.Itoa(int(math.Round(day.Sub(time.Date(1899, 12, 30, 0, 0, 0, 0,
				time.UTC)).Hours()/24))))
		}
	} else if value, err := strconv.ParseFloat(text, 64); as == asNumber && err == nil && shortest(text, value) == text {
		return b.file.SetCellDefault(title, at, text)
	}
	return b.file.SetCellStr(title, at, text)
}

// Cell gives one cell as Rows gives it.
func (b *Book) Cell(title, at string) (string, error) {
	raw, err := b.file.GetCellValue(title, at, excelize.Options{RawCellValue: true})
	if err != nil {
		return "", err
	}
	return b.text(title, at, raw)
}

// Remove takes a row away; those below it move up.
func (b *Book) Remove(title string, row int) error { return b.file.RemoveRow(title, row) }
