package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/evidence"
)

func TestWhatLooksLikeAnID(t *testing.T) {
	for _, c := range []struct {
		suspect       evidence.Suspect
		isNew         bool
		level         Level
		message, mend string
	}{
		{evidence.Suspect{Field: "unit_id", To: "unit", Key: true}, true, Blocker,
			"text/7/de would be new with 7 in field unit_id. Field unit_id in the key of text holds nothing but internal ids of unit, which differ in every environment, and the catalog has it as a plain number.",
			"Say in the catalog what it points at (refers: {unit_id: unit}), leave it out (ignore: [unit_id]), or say that its numbers mean the same everywhere (plain: [unit_id]). Then match again."},
		{evidence.Suspect{Field: "owner_id"}, false, Caution,
			"text/7/de would get 7 in field owner_id. Field owner_id of text is named like an internal id, which differs in every environment, and the catalog has it as a plain number.",
			"Say in the catalog what it points at (refers: {owner_id: TYPE}), leave it out (ignore: [owner_id]), or say that its numbers mean the same everywhere (plain: [owner_id]). Then match again."},
		{evidence.Suspect{Field: "formula", To: "unit", Form: "pattern", Text: "{ID}"}, false, Caution,
			"text/7/de would get 7 in field formula. Field formula of text has internal ids of unit within its values, which differ in every environment, and the catalog takes them as they are.",
			`Say in the catalog what it points at (refers: {formula: {to: unit, pattern: "{ID}"}}), leave it out (ignore: [formula]), or say that its numbers mean the same everywhere (plain: [formula]). Then match again.`},
	} {
		assert.Equal(t, Check{LooksLikeID, c.level, c.message, c.mend, nil}, worded(LikeID("text/7/de", "7", "text", c.suspect, c.isNew)))
	}
	for _, c := range []struct {
		isNew, only, met int
		says             bool
	}{{268, 250, 3, true}, {12, 12, 0, true}, {12, 12, 2, false}, {9, 400, 0, false}, {400, 9, 0, false}} {
		got, ok := HardlyMeets("text", []string{"a", "b"}, "s", "t", c.isNew, c.only, c.met)
		assert.Equal(t, c.says, ok, "%+v", c)
		if ok {
			assert.Contains(t, got.Message, "by the key [a, b]")
		}
	}
}
