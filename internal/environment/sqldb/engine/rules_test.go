package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
)

func TestCheckConstraintsAreFoundInAStatement(t *testing.T) {
	rules := ChecksIn(`CREATE TABLE "check" (a INT CHECK (a > 0), -- CHECK (not this)
		b TEXT DEFAULT 'CHECK (nor this)' /* CHECK (nor that) */,
		[odd name] INT, CONSTRAINT "both sane" CHECK ((a < 5) OR length(b) > 2 AND b <> ')' AND "odd name" IS NOT NULL),
		checked INT, check(b IN ('it''s (x)', 'y')))`)
	var texts, names []string
	for _, rule := range rules {
		texts, names = append(texts, rule.Text), append(names, rule.Name)
	}
	assert.Equal(t, []string{"a > 0", `(a < 5) OR length(b) > 2 AND b <> ')' AND "odd name" IS NOT NULL`, "b IN ('it''s (x)', 'y')"}, texts)
	assert.Equal(t, []string{"", "both sane", ""}, names)
	assert.Empty(t, ChecksIn("CREATE TABLE t (a INT CHECK (a > 0"), "what is cut off is passed over")

	places := map[string]catalog.Place{"t": {Columns: []catalog.Column{{Name: "A"}, {Name: "length"}, {Name: "odd name"}}}}
	AddRule(places, "t", rules[1])
	AddRule(places, "t", catalog.Rule{Text: "json_valid(`a`)"})
	AddRule(places, "t", catalog.Rule{Text: "1 = 1"})
	AddRule(places, "elsewhere", rules[0])
	assert.Len(t, places["t"].Rules, 1)
	assert.Equal(t, []string{"A", "odd name"}, places["t"].Rules[0].Columns, "length( is a function here")
}

func TestTheRuleOfADomainIsAboutItsColumn(t *testing.T) {
	assert.Equal(t, `("n" > 0) AND 'VALUE' <> "VALUE" AND "n" < 9`, ValueAs(`(VALUE > 0) AND 'VALUE' <> "VALUE" AND VALUE < 9`, `"n"`))
}
