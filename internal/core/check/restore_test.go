package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What was there before cannot be exported or corrected, so no mend says so.
func TestAMendOfARestoreCanBeFollowed(t *testing.T) {
	for mend, want := range map[string]string{
		"Correct the value in the source, then export and match again; or decline the record.":                                        "Decline the record.",
		"Correct the value in the source, then export and match again; or decline field price, and approve the others of the record.": "Decline field price, and approve the others of the record.",
		"Correct it in the source, then export and match again; or change item/B in target and match again; or decline the record.":   "Change item/B in target and run anagram restore 3 again; or decline the record.",
		"Take field x out of ignore: in the catalog; then export and match again. Or decline the record.":                             "Decline it: then it stays as it is.",
		"Put it right by hand where it matters.": "Put it right by hand where it matters.",
	} {
		assert.Equal(t, Check{Code: ValueTaken, Mend: want}, TakingBack(Check{Code: ValueTaken, Mend: mend}, "run anagram restore 3 again"))
	}
}
