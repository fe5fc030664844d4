package condition

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestConditionsInOtherLanguages(t *testing.T) {
	for text, want := range map[string]string{
		"n = 5":                      "two values are compared with ==, not with =",
		"n <> 5":                     "written with !=, not with <>",
		"n == 5 AND code == 'A'":     "joined by &&, not by AND",
		"n == 5 or code == 'A'":      "joined by ||, not by OR",
		"n IS NOT NULL":              "field == null, or field != null",
		"not n == 5":                 "written as !(…), not with NOT",
		"code LIKE 'A%'":             "field.contains('…')",
		"code in ('A', 'B') and":     "field in ['A', 'B']",
		"n between 1 and 5":          "field >= 1 && field <= 5",
		"code == 'a AND b = c' && )": "",
	} {
		said := inOurWords(text)
		if want == "" {
			assert.Empty(t, said, "what stands in quotes is data")
			continue
		}
		assert.Contains(t, said, want, text)
		if text != "n between 1 and 5" {
			_, err := Fields(text)
			assert.ErrorContains(t, err, want, text)
		}
	}
}
