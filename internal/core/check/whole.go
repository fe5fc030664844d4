package check

import (
	"fmt"
	"strings"
)

// Checks of a whole docket, or of a whole type of it.

// NoPlace says that a type is not compared, as the target has no such place.
func NoPlace(typ, target, place string) Check {
	return caution(NotOnBothSides, fmt.Sprintf("%s is not compared: %s has nothing called %q.", typ, target, place),
		say("correct at: in the catalog, or create it in %s and match again", target))
}

// NotInParcel says that a type is not compared, as one of two parcels does not hold it.
func NotInParcel(typ, parcel string) Check {
	return caution(NotOnBothSides, fmt.Sprintf("%s is not compared: %s does not hold that record type.", typ, parcel),
		say("export it there, too, and match again"))
}

// FieldOnOneSide says that a field is in one place and not in the other: has and lacks name them.
func FieldOnOneSide(typ, field, has, lacks string) Check {
	return caution(NotOnBothSides, fmt.Sprintf("Field %s of %s is in %s but not in %s; it was not compared and will not be written.",
		field, typ, has, lacks),
		say("put it under ignore: in the catalog if that is as it should be"))
}

// PairUnused says that a pair was not used, as one side has both records.
func PairUnused(one, other, side string) Check {
	return caution(PairNotUsed, fmt.Sprintf("%s and %s are paired as one record, but %s has both; they are compared each for itself.",
		one, other, side),
		do(KeepOne, side, one, other))
}

// HeldUp checks a record that gets a value which another one has to give up first, and that
// one cannot be imported itself.
func HeldUp(address, other string) Check {
	return blocker(ValueTaken, fmt.Sprintf("%s gets a value that %s has to give up first, which cannot be imported itself.", address,
		other), do(MendFirst, other))
}

// Otherwise checks that what the workspace says is what the docket was matched with; says is
// where it says what otherwise, and again is what makes the docket anew.
func Otherwise(says string, docket int, again string) Check {
	return blocker(OtherCatalog, fmt.Sprintf("%s than when docket %d was matched.", says, docket), say("%s", again))
}

// Elsewhere checks that the target is the place that the docket was matched with.
func Elsewhere(target, now, was string, docket int, again string) Check {
	return blocker(OtherTarget, fmt.Sprintf("%s is %s now; when docket %d was matched it was %s.", target, now, docket, was),
		say("correct connect: of this environment in anagram.yaml"), say("%s", again))
}

// Unsealed checks that the parcel is what was exported; message says what is the matter.
func Unsealed(message string) Check {
	return blocker(BrokenSeal, strings.TrimSuffix(message, ".")+".", say("bring the parcel back as it was"), do(ExportAndMatch))
}
