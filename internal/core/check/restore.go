package check

import (
	"fmt"
	"strings"
)

// What stands in the way of taking an import back.

// Referred checks a record that is to be removed and that another record of the target refers
// to, which is not in this docket.
func Referred(address, by, field, target string) Check {
	return Check{StillReferred, Blocker,
		fmt.Sprintf("%s cannot be removed: %s refers to it (field %s) in %s, and this docket does not take that back.", address, by, field, target),
		fmt.Sprintf("Take that reference away in %s and restore again, or decline %s: then it stays.", target, address)}
}

// ReferredOutside checks a record that is to be removed and that a record of a place which is not
// in the catalog refers to.
func ReferredOutside(address, by, target string) Check {
	return Check{StillReferred, Blocker,
		fmt.Sprintf("%s cannot be removed: %s refers to it in %s by a foreign key, and that is not in the catalog.", address, by, target),
		fmt.Sprintf("Take that reference away in %s and restore again, or decline %s: then it stays.", target, address)}
}

// ReferredUnapproved checks a record that is to be removed and that another finding refers to,
// which would be removed or changed but is not going to be.
func ReferredUnapproved(address, by, field, target string) Check {
	return Check{StillReferred, Blocker,
		fmt.Sprintf("%s cannot be removed while %s refers to it (field %s) in %s, and that is not approved.", address, by, field, target),
		fmt.Sprintf("Approve %s as well, or decline %s: then it stays.", by, address)}
}

// ReferredBlocked checks a record that is to be removed and that another finding refers to,
// which is approved but cannot be imported itself.
func ReferredBlocked(address, by, field, target string) Check {
	return Check{StillReferred, Blocker,
		fmt.Sprintf("%s cannot be removed while %s refers to it (field %s) in %s, and that cannot be imported itself.", address, by, field, target),
		fmt.Sprintf("Mend %s first, or decline %s: then it stays.", by, address)}
}

// Altered checks a record that is to be removed and that is not as the import wrote it.
func Altered(address, target string, docket int, now Side) Check {
	since := ""
	if now.At != "" {
		since = " It was last changed" + strings.TrimPrefix(now.changed(), "in "+now.Environment) + "."
	}
	return Check{NotAsWritten, Blocker,
		fmt.Sprintf("%s cannot be removed: it is not what the import of docket %d wrote into %s.%s", address, docket, target, since),
		fmt.Sprintf("Decline it: then it stays. If it has to go, remove it in %s by hand.", target)}
}

// NotMade checks a record that is to be removed and that no import wrote: it was loaded from
// files.
func NotMade(address, target string, docket int) Check {
	return Check{NotAsWritten, Blocker,
		fmt.Sprintf("%s cannot be removed: it came into %s from the load files of docket %d, not by an import, so it cannot be told whether it is as it came.", address, target, docket),
		fmt.Sprintf("Decline it: then it stays. If it has to go, remove it in %s by hand.", target)}
}

// MayNotRemove checks that the account may remove a record.
func MayNotRemove(address, target, place string) Check {
	return Check{NoRightCode, Blocker, fmt.Sprintf("%s cannot be removed: the account may not remove records of %s in %s.", address, place, target),
		"Ask for that right and restore again, or decline the record: then it stays."}
}

// KnowsCatalogOnly says of a docket that removes records how far it looks for what refers to
// them, where the target has no foreign keys.
func KnowsCatalogOnly(target string) Check {
	return Check{NotRestored, Caution,
		fmt.Sprintf("%s has no foreign keys, so only the references of the catalog tell what still refers to records that are removed.", target),
		"Look whether anything else in the application holds them before approving."}
}

// MovedTarget says that what is taken back was imported into another place of the same name.
func MovedTarget(target string, docket int, was, now string) Check {
	return Check{OtherTarget, Caution, fmt.Sprintf("%s is %s now; when docket %d was imported it was %s.", target, now, docket, was),
		"Go on only if it is the same database, moved; else correct connect: of this environment in anagram.yaml."}
}

// Left says what a restore cannot bring back.
func Left(docket int, what []string) Check {
	return Check{NotRestored, Caution, fmt.Sprintf("What cannot be taken back of docket %d: %s.", docket, strings.Join(what, "; ")), "Put it right by hand where it matters."}
}

// TakingBack gives a check as it is said where an import is taken back: what was there before
// cannot be corrected, and nothing is exported for it. again is what makes that docket anew.
func TakingBack(c Check, again string) Check {
	var ways []string
	for _, way := range strings.Split(strings.TrimSuffix(c.Mend, "."), "; or ") {
		if !strings.Contains(strings.ToLower(way), "export") {
			ways = append(ways, strings.ReplaceAll(way, "match again", again))
		}
	}
	if len(ways) == 0 {
		c.Mend = "Decline it: then it stays as it is."
		return c
	}
	c.Mend = strings.Join(ways, "; or ") + "."
	c.Mend = strings.ToUpper(c.Mend[:1]) + c.Mend[1:]
	return c
}
