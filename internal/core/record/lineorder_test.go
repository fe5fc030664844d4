package record

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

var orderShapes = Shapes{
	"item": {{Name: "code", Kind: Text}, {Name: "no", Kind: Integer}},
	"part": {{Name: "item_id", Kind: Reference, Refers: "item"}, {Name: "low", Kind: Decimal}, {Name: "day", Kind: Date}, {Name: "on", Kind: Boolean}},
	"plan": {{Name: "of", Kind: Reference, Refers: "plan"}, {Name: "code", Kind: Text, Rule: Rule{FoldCase: true, Trim: true}}},
	"note": {{Name: "on", Kind: Reference, Among: []string{"item", "plan"}}, {Name: "n", Kind: Decimal}},
}

var orderFields = []Field{{Name: "name", Kind: Text}, {Name: "extra", Kind: JSON}}

var orderLines = []string{
	`{"key":["A",1],"values":{}}`,
	`{"key":["A",1],"values":{"name":"x"},"changed_at":"2026-01-02T03:04:05","why":"chosen"}`,
	`{"key":["A\"",1],"values":{"name":"x"}}`, `{"key":["ä",-7],"values":{"extra":{"json":{"values":{"}":"\"}"}}}}}`, `{"key":[null,null],"values":{"name":null}}`,
	`{"key":[["A",1],"2.5","2026-01-02",null],"values":{}}`, `{"key":[["A",1],"2.50","2026-01-02",true],"values":{}}`, `{"key":[[null,1],"0","2026-02-30",true],"values":{}}`,
	`{"key":[null," Ab "],"values":{}}`, `{"key":[[[null,"a"],"B"],"ç"],"values":{}}`, `{"key":[{"to":"item","key":["A",1]},"1"],"values":{}}`,
	`{"key":["A"],"values":{}}`, `{"key":["A",1,2],"values":{}}`, `{"key":["A",1] ,"values":{}}`, `{"key":["A",01],"values":{}}`, `{"key":["A","1"],"values":{}}`, `{"key":["A",1],"values":{}`, `{"key":["A",1],"values":`, `{"key":["A`, `{"key":[`, ``,
	`{"key":[` + strings.Repeat("[", 200) + `null,"x"` + strings.Repeat(`],"x"`, 200) + `],"values":{}}`, `{"key":[` + strings.Repeat("[", 2_000_000),
	`{"key":["A",9007199254740993],"values":{}}`, `{"key":["A",1],"values":{"name":"` + strings.Repeat("x", 500) + `"},"through":"a/b c"}`,
}

// holdOrder holds the short way against the long one, where the long one reads a line.
func holdOrder(t *testing.T, typ, line string) (short bool) {
	t.Helper()
	order, _, end, ok := orderShapes.LineOrder([]byte("x"), []byte(line), typ)
	if !ok {
		assert.Equal(t, "x", string(order))
		return false
	}
	r, err := ParseLine([]byte(line), typ, orderFields, orderShapes)
	if err != nil {
		return true // which is said when it is read, and no line of AppendLine is like that
	}
	assert.Equal(t, "x"+r.Key.Order(), string(order), line)
	var extras Record
	if LineExtras([]byte(line), end, &extras) {
		assert.Equal(t, []string{r.ChangedAt, r.ChangedBy, r.Why, r.Through}, []string{extras.ChangedAt, extras.ChangedBy, extras.Why, extras.Through}, line)
	}
	alone, err := ParseLine([]byte(line[:end]+"}"), typ, orderFields, orderShapes)
	assert.NoError(t, err)
	assert.Equal(t, string(AppendLine(nil, orderFields, Record{Key: r.Key, Values: r.Values})), string(AppendLine(nil, orderFields, alone)))
	return true
}

func TestTheOrderOfALineIsThatOfItsKey(t *testing.T) {
	short := 0
	for _, line := range orderLines {
		for typ := range orderShapes {
			if holdOrder(t, typ, line) {
				short++
			}
		}
	}
	assert.Equal(t, 10, short)
}

func FuzzLineOrder(f *testing.F) {
	for _, line := range orderLines {
		f.Add("item", line)
		f.Add("part", line)
		f.Add("plan", line)
	}
	f.Fuzz(func(t *testing.T, typ, line string) { holdOrder(t, typ, line) })
}
