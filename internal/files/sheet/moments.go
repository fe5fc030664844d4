package sheet

import (
	"math"
	"strconv"
	"time"
)

// A workbook keeps a moment as a number of days (ECMA-376 Part 1, 18.17.4.1): from a day
// in 1900, or from 1904-01-01. The numbers of the first two months of 1900 mean one day to some
// programs and the next day to others, so they are taken for no date and never written.

const (
	dayMillis   = 24 * 60 * 60 * 1000
	firstDay    = 61 // 1900-03-01, the first that all programs agree on
	firstMoment = "15:04:05.999"
	dateTime    = time.DateOnly + " " + firstMoment
)

// layouts are how moments read.
var layouts = map[shown]string{asDate: time.DateOnly, asTime: firstMoment, asDateTime: dateTime}

// dayZero gives the day whose number is 0, and the first number that is a date.
func dayZero(from1904 bool) (zero time.Time, first int) {
	if from1904 {
		return time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC), 0
	}
	return time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC), firstDay
}

// lastDay is the number of 9999-12-31.
func lastDay(from1904 bool) int {
	zero, _ := dayZero(from1904)
	return int((time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC).Unix() - zero.Unix()) / (24 * 60 * 60))
}

// dateRange gives the first and the last day that a cell for dates holds.
func dateRange(from1904 bool) (first, last string) {
	zero, day := dayZero(from1904)
	return zero.AddDate(0, 0, day).Format(time.DateOnly), "9999-12-31"
}

// momentOf gives the text of a number in a cell that shows moments, to the millisecond; ok is
// false where it is none.
func momentOf(as shown, from1904 bool, number float64) (text string, ok bool) {
	zero, first := dayZero(from1904)
	whole := math.Floor(number)
	if math.IsNaN(whole) || whole < 0 || whole > float64(lastDay(from1904)) {
		return "", false
	}
	days, millis := int(whole), int(math.Round((number-whole)*dayMillis))
	if millis == dayMillis {
		days, millis = days+1, 0
	}
	if as == asTime && days > 0 || as != asTime && (days < first || days > lastDay(from1904)) {
		return "", false
	}
	return zero.AddDate(0, 0, days).Add(time.Duration(millis) * time.Millisecond).Format(layouts[as]), true
}

// numberOf gives the number under which a cell that shows moments keeps a text; ok is false
// where it would not read as that text again.
func numberOf(as shown, from1904 bool, text string) (raw string, ok bool) {
	moment, err := time.Parse(layouts[as], text)
	if err != nil {
		return "", false
	}
	zero, _ := dayZero(from1904)
	if as == asTime {
		zero = time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	seconds := moment.Unix() - zero.Unix()
	days := math.Floor(float64(seconds) / (24 * 60 * 60))
	millis := (seconds-int64(days)*24*60*60)*1000 + int64(moment.Nanosecond())/1e6
	number := days + float64(millis)/dayMillis
	back, ok := momentOf(as, from1904, number)
	return strconv.FormatFloat(number, 'f', -1, 64), ok && back == text
}
