package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestChecksOfWhatARecordRefersTo(t *testing.T) {
	n := Need{Field: "unit_id", Address: "unit/g"}
	assert.Equal(t, Check{ReferenceNotApproved, Blocker, "item/A holds the key of unit/g (field unit_id), which has another key in production until the change of it is approved.", "Approve unit/g as well, or decline item/A.", nil},
		worded(NotRekeyed("item/A", n, "production")))
	assert.Equal(t, "item/A refers to unit/g, which is not in the parcel and is not in production as it is in sandbox (field name).", Differs("item/A", false, "unit/g", "sandbox", "production", []string{"name"}).Message)
	assert.Equal(t, "More than 10 records of this docket refer to unit/g, which is not in the parcel and is not in production as it is in sandbox (fields name, size).",
		Differs("More than 10 records of this docket", true, "unit/g", "sandbox", "production", []string{"name", "size"}).Message)
	assert.Equal(t, Caution, Differs("item/A", false, "unit/g", "sandbox", "production", []string{"name"}).Level)
	inUse := InUse("unit/G", "code", "item", "items.unit_code", "production")
	assert.Equal(t, KeyInUse, inUse.Code)
	assert.Equal(t, "Let the foreign key of items.unit_code follow (ON UPDATE CASCADE) in production and match again, or decline field code.", inUse.Mend)
	declined := Declined("item/A", "name", "production")
	assert.Equal(t, "item/A is new, and production requires a value in field name, which is not approved.", declined.Message)
}
