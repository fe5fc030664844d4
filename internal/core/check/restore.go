package check

import (
	"fmt"
	"strings"
)

// What stands in the way of taking an import back.

// Referred checks a record that is to be removed and that another record of the target refers
// to, which is not in this docket.
func Referred(address, by, field, target string) Check {
	return blocker(StillReferred,
		fmt.Sprintf("%s cannot be removed: %s refers to it (field %s) in %s, and this docket does not take that back.", address, by,
			field, target),
		do(RemoveReference, target), do(DeclineThenStays, address))
}

// ReferredOutside checks a record that is to be removed and that a record of a place which is not
// in the catalog refers to.
func ReferredOutside(address, by, target string) Check {
	return blocker(StillReferred,
		fmt.Sprintf("%s cannot be removed: %s refers to it in %s by a foreign key, and that is not in the catalog.", address, by, target),
		do(RemoveReference, target), do(DeclineThenStays, address))
}

// ReferredUnapproved checks a record that is to be removed and that another finding refers to,
// which would be removed or changed but is not going to be.
func ReferredUnapproved(address, by, field, target string) Check {
	return blocker(StillReferred,
		fmt.Sprintf("%s cannot be removed while %s refers to it (field %s) in %s, and that is not approved.", address, by, field, target),
		do(ApproveToo, by), do(DeclineThenStays, address))
}

// ReferredBlocked checks a record that is to be removed and that another finding refers to,
// which is approved but cannot be imported itself.
func ReferredBlocked(address, by, field, target string) Check {
	return blocker(StillReferred,
		fmt.Sprintf("%s cannot be removed while %s refers to it (field %s) in %s, and that cannot be imported itself.", address, by,
			field, target),
		do(MendFirst, by), do(DeclineThenStays, address))
}

// Altered checks a record that is to be removed and that is not as the import wrote it.
func Altered(address, target string, docket int, now Side) Check {
	since := ""
	if now.At != "" {
		since = " It was last changed" + strings.TrimPrefix(now.changed(), "in "+now.Environment) + "."
	}
	return blocker(NotAsWritten,
		fmt.Sprintf("%s cannot be removed: it is not what the import of docket %d wrote into %s.%s", address, docket, target, since),
		say("decline it: then it stays. If it has to go, remove it in %s by hand", target))
}

// NotMade checks a record that is to be removed and that no import wrote: it was loaded from
// files.
func NotMade(address, target string, docket int) Check {
	return blocker(NotAsWritten,
		fmt.Sprintf("%s cannot be removed: it came into %s from the load files of docket %d, not by an import, so it cannot be told whether it is as it came.", address, target, docket),
		say("decline it: then it stays. If it has to go, remove it in %s by hand", target))
}

// MayNotRemove checks that the account may remove a record.
func MayNotRemove(address, target, place string) Check {
	return blocker(NoRightCode, fmt.Sprintf("%s cannot be removed: the account may not remove records of %s in %s.", address,
		place, target),
		do(AskRightToRestore), do(DeclineThenStays, "the record"))
}

// KnowsCatalogOnly says of a docket that removes records how far it looks for what refers to
// them, where the target has no foreign keys.
func KnowsCatalogOnly(target string) Check {
	return caution(NotRestored,
		fmt.Sprintf("%s has no foreign keys, so only the references of the catalog tell what still refers to records that are removed.", target),
		say("look whether anything else in the application holds them before approving"))
}

// MovedTarget says that what is taken back was imported into another place of the same name.
func MovedTarget(target string, docket int, was, now string) Check {
	return caution(OtherTarget, fmt.Sprintf("%s is %s now; when docket %d was imported it was %s.", target, now, docket, was),
		say("go on only if it is the same database, moved; else correct connect: of this environment in anagram.yaml"))
}

// Left says what a restore cannot bring back.
func Left(docket int, what []string) Check {
	return caution(NotRestored, fmt.Sprintf("What cannot be taken back of docket %d: %s.", docket, strings.Join(what, "; ")),
		say("put it right by hand where it matters"))
}
