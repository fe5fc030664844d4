// Package evidence is a bounded look at the data of one environment, kept as small as can
// be, and what it tells: which column holds the internal ids of which table, and how sure
// that is.
//
// The contract: a Table takes rows in the order in which they are given and keeps of each
// value a number that is equal for equal values, whole numbers in a form that can be read
// back, and of each column a few texts. It never sees a column that nobody asked for.
package evidence

import (
	"math"
	"slices"
	"strconv"

	"anagram/internal/core/record"
)

// Bounds of what is kept.
const (
	someTexts  = 200  // different texts of a column
	textLength = 4096 // bytes of a text; longer ones are not kept
)

// Table is a look at one place.
type Table struct {
	Rows int // that the place has, as far as they were counted
	Read int // that were looked at
	// Columns by name; those that may not be looked at are missing.
	Columns map[string]*Column
	order   []*Column
}

// Column is what was seen in one column.
type Column struct {
	// Values has one number for each row that was read; 0 is null.
	Values []uint64
	// Some are different texts that were seen, in the order of the rows.
	Some []string

	told    map[uint64]bool // values of Some
	set     map[uint64]int  // see Set
	counted int             // values that are in set
}

// New makes an empty look at the columns with these names.
func New(names []string) *Table {
	t := &Table{Columns: map[string]*Column{}}
	for _, name := range names {
		c := &Column{}
		t.Columns[name] = c
		t.order = append(t.order, c)
	}
	return t
}

// Add takes a row: one value for each column, in the order of New.
func (t *Table) Add(row []record.Value) {
	t.Read++
	for i, c := range t.order {
		c.add(row[i])
	}
}

func (c *Column) add(v record.Value) {
	if v.IsNull() || v.IsAbsent() {
		c.Values = append(c.Values, 0)
		return
	}
	text := v.Text()
	n := Number(text)
	c.Values = append(c.Values, n)
	if len(c.Some) >= someTexts || len(text) > textLength {
		return
	}
	if c.told == nil {
		c.told = map[uint64]bool{}
	}
	if !c.told[n] {
		c.told[n] = true
		c.Some = append(c.Some, text)
	}
}

const mask = 0x9E3779B97F4A7C15 // so that no usual number is 0, which is null

// Number gives the number of a value's text. Two texts with the same number are taken for
// the same; a whole number has the same one however its column is declared.
func Number(text string) uint64 {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && strconv.FormatInt(n, 10) == text {
		return uint64(n) ^ mask
	}
	sum := uint64(14695981039346656037) // FNV-1a, which is the same in every run
	for i := range len(text) {
		sum = (sum ^ uint64(text[i])) * 1099511628211
	}
	return sum | 3<<62 // no whole number of usual size begins so, see Whole
}

// Whole reads a number back as the whole number that it was made of.
func Whole(n uint64) (int64, bool) {
	v := int64(n ^ mask)
	return v, n != 0 && v > math.MinInt64/4 && v < math.MaxInt64/4
}

// Set gives the different values that are not null, and how often each was seen. It must not be
// changed.
func (c *Column) Set() map[uint64]int {
	if c.set == nil || c.counted != len(c.Values) {
		c.set, c.counted = make(map[uint64]int, len(c.Values)/2), len(c.Values)
		for _, v := range c.Values {
			if v != 0 {
				c.set[v]++
			}
		}
	}
	return c.set
}

// Filled counts the values that are not null.
func (c *Column) Filled() (n int) {
	for _, v := range c.Values {
		if v != 0 {
			n++
		}
	}
	return n
}

// Held says how far the values of a column are among the ids of a table.
type Held struct {
	Values  int      // different values
	Within  int      // of them that are ids
	Rows    int      // rows with a value
	Missing []uint64 // the values that are none, at most a few
}

// Share is how many of a hundred different values are ids.
func (h Held) Share() float64 {
	if h.Values == 0 {
		return 0
	}
	return 100 * float64(h.Within) / float64(h.Values)
}

// Among counts the values of a column that are among the ids of another.
func (c *Column) Among(ids *Column) Held {
	var h Held
	there := ids.Set()
	for v, n := range c.Set() {
		h.Values++
		h.Rows += n
		if there[v] > 0 {
			h.Within++
		} else if len(h.Missing) < 4 {
			h.Missing = append(h.Missing, v)
		}
	}
	return h
}

// MayBe reports whether the first few values of a column are among the ids of another, those
// apart that stand for nothing: it is asked before all of them are compared.
func (c *Column) MayBe(ids *Column) bool {
	const few = 6
	there, looked := ids.Set(), 0
	for _, v := range c.Values {
		if n, whole := Whole(v); v == 0 || whole && n <= 0 {
			continue
		}
		if there[v] == 0 {
			return false
		}
		if looked++; looked == few {
			break
		}
	}
	return true
}

// ByChance tells how likely it is that a column of other numbers has all of its values among
// these ids: small numbers in a row are among the ids of every table, large and scattered ones
// are not. 1 is certain.
func (c *Column) ByChance(ids *Column) float64 {
	least, most, numbers := c.bounds()
	if !numbers {
		return 0 // texts that are ids are no accident
	}
	inside := 0
	for v := range ids.Set() {
		if n, ok := Whole(v); ok && n >= least && n <= most {
			inside++
		}
	}
	density := float64(inside) / (float64(most-least) + 1)
	return math.Pow(min(density, 1), float64(len(c.Set())))
}

// bounds gives the least and the largest value, where all are whole numbers.
func (c *Column) bounds() (least, most int64, numbers bool) {
	least, most = math.MaxInt64, math.MinInt64
	for v := range c.Set() {
		n, ok := Whole(v)
		if !ok {
			return 0, 0, false
		}
		least, most = min(least, n), max(most, n)
	}
	return least, most, least <= most
}

// Whole reports whether all values are whole numbers, and there are some.
func (c *Column) Whole() bool {
	_, _, ok := c.bounds()
	return ok
}

// Where gives the rows that a test picks, in their order, of some columns or of all.
func (t *Table) Where(pick func(row int) bool, columns ...string) *Table {
	out := &Table{Columns: map[string]*Column{}}
	var rows []int
	for row := range t.Read {
		if pick(row) {
			rows = append(rows, row)
		}
	}
	out.Rows, out.Read = len(rows), len(rows)
	for name, c := range t.Columns {
		if len(columns) > 0 && !slices.Contains(columns, name) {
			continue
		}
		part := &Column{Some: c.Some, Values: make([]uint64, len(rows))}
		for i, row := range rows {
			part.Values[i] = c.Values[row]
		}
		out.Columns[name] = part
	}
	return out
}
