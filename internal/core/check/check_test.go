package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestStanding(t *testing.T) {
	for _, c := range []struct {
		name       string
		candidates []Candidate
		want       map[int64]int64
	}{
		{"nothing needed", []Candidate{{ID: 1}, {ID: 2}}, map[int64]int64{}},
		{"needs one that is approved", []Candidate{{ID: 1, Needs: []int64{2}}, {ID: 2}}, map[int64]int64{}},
		{"needs one that is not", []Candidate{{ID: 1, Needs: []int64{9}}, {ID: 2}}, map[int64]int64{1: 9}},
		{"and so on down", []Candidate{{ID: 1, Needs: []int64{2}}, {ID: 2, Needs: []int64{3}}, {ID: 3, Needs: []int64{9}}, {ID: 4}}, map[int64]int64{3: 9, 2: 3, 1: 2}},
		{"blocked itself", []Candidate{{ID: 1, Blocked: "missing-reference"}, {ID: 2, Needs: []int64{1}}, {ID: 3}}, map[int64]int64{1: 0, 2: 1}},
		{"a circle stands", []Candidate{{ID: 1, Needs: []int64{2}}, {ID: 2, Needs: []int64{1}}}, map[int64]int64{}},
		{"a circle falls as one", []Candidate{{ID: 1, Needs: []int64{2}}, {ID: 2, Needs: []int64{1, 9}}}, map[int64]int64{2: 9, 1: 2}},
	} {
		assert.Equal(t, c.want, Standing(c.candidates), c.name)
	}
}

func TestChecksNameFactsAndMend(t *testing.T) {
	need := Need{Field: "unit_id", Address: "unit/mIU-L"}
	c, bad := Reference("assay/TSH", need, "production", 7)
	assert.True(t, bad)
	assert.Equal(t, Check{MissingReference, Blocker,
		"assay/TSH refers to unit/mIU-L (field unit_id), which is neither in production nor in docket 7.",
		"Export unit/mIU-L as well and match again, or create it in production and match again.", nil}, worded(c))
	need.InTarget = 1
	_, bad = Reference("assay/TSH", need, "production", 7)
	assert.False(t, bad)
	need.InTarget = 2
	c, _ = Reference("assay/TSH", need, "production", 7)
	assert.Equal(t, AmbiguousKey, c.Code)
	c = NotApproved("range/TSH/F", Need{Field: "assay_id", Address: "assay/TSH", Owner: true, Finding: 3}, "production", 7, "")
	assert.Equal(t, OwnerNotApproved, c.Code)
	assert.Equal(t, "Approve assay/TSH, or create it in production and match again.", c.Mend)
	assert.Contains(t, Ambiguity("a/X", "sandbox", "production", []string{"a/X", "a/x"}, nil, false).Message, "in sandbox (as a/X, a/x)")
	assert.Contains(t, Ambiguity("a/X", "sandbox", "production", []string{"a/X"}, []string{"4", "7"}, false).Message, "in production (internal ids 4, 7)")
}
