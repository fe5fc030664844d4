package check

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
)

// Approvals checks that as many people approved a record as its environment demands. By are
// those whose approval counts, and apart says why that of others does not, with their names.
func Approvals(address, target string, demanded int, by []string, apart []string) (Check, bool) {
	if len(by) >= demanded {
		return Check{}, false
	}
	approved := "is approved by nobody who counts"
	if len(by) > 0 {
		approved = "is approved by " + strings.Join(by, " and ")
	}
	message := fmt.Sprintf("%s %s; %s demands %s.", address, approved, target, people(demanded))
	if len(apart) > 0 {
		message += " " + strings.Join(apart, " ")
	}
	return blocker(ApprovalsCode, message, say("let %s approve it who may",
		map[bool]string{true: "somebody", false: "somebody else"}[len(by) == 0])), true
}

// NoImports checks a target that is only ever a source.
func NoImports(target string) Check {
	return blocker(DirectionCode, fmt.Sprintf("%s is only ever a source: anagram.yaml refuses imports into it.", target),
		say("match the other way round"), say("take imports: refused from this environment"))
}

// Direction cautions about a match the other way round than records were brought so far.
func Direction(source, target string, docket, before int) Check {
	return caution(DirectionCode,
		fmt.Sprintf("So far records were brought from %s to %s, last by docket %d. This match brings them the other way, from %s into %s.", target, source, before, source, target),
		say("if that is meant, the import is: anagram import %d --to %s", docket, show.Arg(target)))
}

// NotTo checks that an import names its target where it goes the other way round, and that
// what it names is the target.
func NotTo(source, target, to string, docket, before int) Check {
	if to != "" {
		return blocker(DirectionCode, fmt.Sprintf("Docket %d goes to %s, not to %s.", docket, target, to),
			say("name the docket that is meant"))
	}
	c := Direction(source, target, docket, before)
	c.Level = Blocker
	return c
}

// BackToThen blocks an import that brings an environment back to what it was, where the person did not
// name it.
func BackToThen(then, target string, docket int) Check {
	return blocker(DirectionCode, fmt.Sprintf("Docket %d brings records of %s back to what they were there then (%s).", docket, target, then),
		say("say that this is meant, with --to %s", target))
}

func people(n int) string {
	if n == 1 {
		return "the approval of one person"
	}
	return fmt.Sprintf("the approvals of %d people", n)
}

// Used blocks a record that an import of the docket wrote already by what was approved then, and
// that is not as it was written any more. Command is what approves it anew.
func Used(address string, docket int) Check {
	return blocker(ApprovalUsed,
		fmt.Sprintf("%s was written by an import of docket %d already, and what was approved then is used up.", address, docket),
		say("approve it anew with anagram approve %d %s --again, where it is to be written once more", docket,
			show.Arg(address)), do(Decline, "the record"))
}

// Later blocks a record that somebody declined or held in a later docket, on the same values, after
// it was approved here.
func Later(address, who, decision string, later, docket int) Check {
	return blocker(DecidedLater,
		fmt.Sprintf("%s was %s by %s in docket %d, after it was approved in docket %d and on the same values.", address,
			decision, who, later, docket),
		say("approve it anew with anagram approve %d %s --again, where that does not hold any more", docket, show.Arg(address)),
		do(Decline, "the record"))
}
