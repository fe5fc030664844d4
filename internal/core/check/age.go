package check

import (
	"fmt"
	"strings"
	"time"
)

// Checks of a whole docket that are about time: what went on since the parcel was
// exported, and what is still going on at the target.

// OldAfter is from which age on a parcel is called old.
const OldAfter = 30 * 24 * time.Hour

const unlessMeant = ", unless it is meant to be as it was then"

// Age cautions about a parcel that was exported long ago.
func Age(parcel string, exported, now time.Time) (Check, bool) {
	if now.Sub(exported) < OldAfter {
		return Check{}, false
	}
	return caution(OldParcel, fmt.Sprintf("Parcel %s was exported %d days ago.", parcel, int(now.Sub(exported).Hours()/24)),
		do(ExportAgain, unlessMeant)), true
}

// Overtaken cautions about a parcel that was exported before another one of the same source
// that was matched with the target since.
func Overtaken(parcel, source, target string, types []string) Check {
	return caution(OldParcel,
		fmt.Sprintf("Another parcel of %s, exported after %s, was matched with %s since (%s). What differs may be older here, not changed.", source, parcel, target, strings.Join(types, ", ")),
		do(ExportAgain, unlessMeant))
}

// Moved is how many records of a type changed in the source since the export.
type Moved struct {
	Type    string
	Records int
}

// Source cautions about a source that went on since the export.
func Source(parcel, source string, moved []Moved) (Check, bool) {
	if len(moved) == 0 {
		return Check{}, false
	}
	total := 0
	var types []string
	for _, m := range moved {
		total += m.Records
		types = append(types, fmt.Sprintf("%s %d", m.Type, m.Records))
	}
	what := "1 record of its scope was"
	if total != 1 {
		what = fmt.Sprintf("%d records of its scope were", total)
	}
	return caution(SourceMoved, fmt.Sprintf("%s changed in %s since parcel %s was exported (%s).", what, source, parcel,
		strings.Join(types, ", ")), do(ExportAgain, ", to bring these changes as well")), true
}

// Open cautions about another docket for the same target in which records are approved
// and not imported.
func Open(docket int, target string, approved int) Check {
	what := "an approved record that is"
	if approved != 1 {
		what = fmt.Sprintf("%d approved records that are", approved)
	}
	return caution(OpenDocket, fmt.Sprintf("Docket %d for %s has %s not imported.", docket, target, what), do(ImportFirst, docket))
}

// Unfinished blocks while an import into the same target was interrupted and not taken up
// again.
func Unfinished(docket int, target string) Check {
	return blocker(UnfinishedImport,
		fmt.Sprintf("An import of docket %d into %s was interrupted, and it is not known where it stands.", docket, target),
		say("run anagram import %d again, which finds that out and completes it; then match again", docket))
}

// HalfWay blocks while an import into the same target is half written.
func HalfWay(docket int, target string) Check {
	return blocker(UnfinishedImport, fmt.Sprintf("An import of docket %d into %s was broken off half way.", docket, target),
		say("finish it with anagram import %d --resume, or take it back with anagram restore %d; then match again", docket, docket))
}

// BrokenOff blocks an import while the one before stopped half way in a target without
// transactions.
func BrokenOff(docket int, target string, written, planned int) Check {
	return blocker(UnfinishedImport,
		fmt.Sprintf("The last import of docket %d into %s was broken off when %d of its %d records were written, or nearly.",
			docket, target, written, planned),
		do(Resume, docket), do(TakeBack, docket))
}

// Reminders holds an import up until people saw to what the workspace reminds of.
func Reminders(docket int, target string, list []string) Check {
	return blocker(RemindersCode, fmt.Sprintf("Before an import into %s: %s", target, strings.Join(list, " ")),
		say("see to it, then say so with anagram import %d --reminded", docket))
}
