package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// What was there before cannot be exported or corrected, so no mend says so; what can be done
// in the target stays, whatever the target is called.
func TestAMendOfARestoreCanBeFollowed(t *testing.T) {
	text, err := record.Parse(record.Text, "too long")
	assert.NoError(t, err)
	short := catalog.Column{Name: "price", Kind: record.Text, Limits: catalog.Limits{Characters: 3}}
	fits := func(must bool) Check {
		c, _ := Fits("item/A", "exports", short, text, must)
		return c
	}
	missing, _ := Reference("item/A", Need{Field: "unit_id", Address: "unit/export"}, "exports", 4)
	for _, c := range []struct {
		check Check
		want  string
	}{
		{fits(true), "Decline the record."},
		{fits(false), "Decline field price, and approve the others of the record."},
		{Taken(Clash{Claim: Claim{Address: "item/A", Fields: []string{"name"}, Must: true}, Other: "item/B"}, "exports", 4), "Change item/B in exports and run anagram restore 3 again, or decline item/A."},
		{Lacks("item/A", "x", "exports", false, true), "Decline the record."},
		{Lacks("item/A", "export_x", "exports", false, false), "Give field export_x a default in exports and run anagram restore 3 again, or decline the record."},
		{missing, "Create it in exports and run anagram restore 3 again."},
		{Ambiguity("item/A", "s", "exports", []string{"A", "a"}, nil, false), "Decline it: then it stays as it is."},
		{Ambiguity("item/A", "s", "exports", nil, []string{"1", "2"}, false), "Correct the key or remove all but one of them in exports, then run anagram restore 3 again."},
		{NoRight("item/{again}", "exports", "items", false), "Ask for that right and run anagram restore 3 again, or decline the record."},
		{Differs("item/A", false, "unit/g", "s", "exports", []string{"name"}), "Decline it: then it stays as it is."},
		{Left(3, []string{"a trigger's rows"}), "Put it right by hand where it matters."},
	} {
		assert.Equal(t, c.want, TakingBack(c.check, "run anagram restore 3 again").Mend)
	}
}

// Every kind of way has a form, which is filled with what it needs.
func TestEveryKindOfWayHasAForm(t *testing.T) {
	for kind := range TakeBack + 1 {
		assert.NotEmpty(t, forms[kind].words, "kind %d", kind)
	}
	assert.Len(t, forms, int(TakeBack)+1)
	for _, c := range []Check{HeldOutside("a/A", "a", "t", "7", Side{}), Beside("w", "a/A", "a/B"), Circle("a/A", "", "t"), Circle("a/A", "a/B", "t"), Apart("a/A", "x", "y"), InUse("a/A", "k", "b", "b.k", "t"),
		Once("a/A", "t", "f"), Given("a/A", "f", "t"), LacksDerived("a/A", "f", "t"), Declined("a/A", "f", "t"), MayNotRemove("a/A", "t", "p"), Referred("a/A", "b/B", "f", "t"), HalfWay(3, "t"), BrokenOff(3, "t", 1, 2),
		Taken(Clash{Claim: Claim{Address: "a/A", Fields: []string{"f", "g"}}, Other: "a/B", Trade: true}, "t", 3), Taken(Clash{Claim: Claim{Address: "a/A", Fields: []string{"f"}, HeldAs: "a/C"}, Other: "a/B", Trade: true}, "t", 3),
		editedSince("a/A", []string{"f"}, 3, Side{}), NotTo("s", "t", "u", 3, 2), NoImports("t"), KnowsCatalogOnly("t"), MovedTarget("t", 3, "a", "b"), Left(3, []string{"x"})} {
		assert.NotContains(t, c.Mend, "%!", "%s", c.Mend)
		assert.NotContains(t, c.Mend, "{", "%s", c.Mend)
		assert.Regexp(t, `^[A-Z].*\.$`, c.Mend)
		assert.NotEmpty(t, c.ways)
	}
}
