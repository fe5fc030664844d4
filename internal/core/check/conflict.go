package check

import (
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/known"
)

// Side is when and by whom a record was last changed on one side, as its environment
// tells; empty where it does not.
type Side struct{ Environment, At, By string }

func (s Side) changed() string {
	if s.At == "" {
		return "in " + s.Environment + " it is not known when"
	}
	at := strings.Replace(strings.TrimSuffix(s.At, "Z"), "T", " ", 1)
	if s.By != "" {
		return fmt.Sprintf("in %s on %s by %s", s.Environment, at, s.By)
	}
	return fmt.Sprintf("in %s on %s", s.Environment, at)
}

// Conflict says what is behind a reason for which a record is a conflict, and which
// choices a person has. Fields are those that both sides changed. ok is false for a
// reason that has a check of its own.
func Conflict(reason, address string, fields []string, source, target Side) (Check, bool) {
	c := caution(Code(reason), "",
		say("find out which is right; then approve it with --take source or --take target, or decline it and keep what %s has",
			target.Environment))
	switch reason {
	case "both-moved":
		what := "Field " + strings.Join(fields, ", ") + " of " + address + " was"
		if len(fields) > 1 {
			what = "Fields " + strings.Join(fields, ", ") + " of " + address + " were"
		}
		c.Message = fmt.Sprintf("%s changed on both sides since they last agreed: %s, %s.", what, source.changed(), target.changed())
	case "created-on-both": // MadeTwice completes it
	case "target-newer":
		c.Message = fmt.Sprintf("%s was changed later in %s than in %s, and it is not known what both last agreed on: %s, %s.",
			address, target.Environment, source.Environment, source.changed(), target.changed())
	case "retired-in-target":
		c.Message = fmt.Sprintf("%s was taken out of use in %s and is in use in %s: %s, %s.", address, target.Environment,
			source.Environment, source.changed(), target.changed())
	case "removed-in-target":
		c.Message = fmt.Sprintf("%s was in %s before and is no longer there; somebody removed it. Last changed: %s.", address,
			target.Environment, source.changed())
		c = c.mended(do(ApproveSource, " to bring it back"), do(Decline, "it"))
	default:
		return Check{}, false
	}
	return c, true
}

// MadeTwice says that a record was made on either side on its own, since all of its type was first compared.
func MadeTwice(address, typ string, last known.Coverage, source, target Side) Check {
	c, _ := Conflict("created-on-both", address, nil, source, target)
	c.Message = fmt.Sprintf("%s was made in %s and in %s, each on its own, after docket %d compared all of %s on %s; they differ. Last changed: %s, %s.",
		address, source.Environment, target.Environment, last.Docket, typ, onDay(last.At), source.changed(), target.changed())
	return c
}

// onDay writes a moment to the minute, in UTC.
func onDay(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.UTC().Format("2006-01-02 15:04 UTC")
}

// Since says that fields, which an import wrote that is taken back, were changed after it.
func Since(address string, fields []string, docket int, target Side) Check {
	what := "Field " + strings.Join(fields, ", ") + " of " + address + " was"
	if len(fields) > 1 {
		what = "Fields " + strings.Join(fields, ", ") + " of " + address + " were"
	}
	return caution("both-moved", fmt.Sprintf("%s changed since the import of docket %d: %s.", what, docket, target.changed()),
		do(ApproveSource, " to bring back what was there before that import"), do(ApproveTarget, " to keep what is there now"))
}

// Renamed cautions that two records are probably one whose key was changed: other is the
// one on the other side.
func Renamed(address, other, source, target string, fields, of int, isNew bool) Check {
	agree := fmt.Sprintf("%d of their %d other fields agree", fields, of)
	if of == 1 {
		agree = "their other field agrees"
	}
	if isNew {
		return caution(LooksRenamed, fmt.Sprintf("%s is only in %s and looks like %s, which is only in %s: %s.", address, source,
			other, target, agree),
			do(PairThem, other, address, "; importing it as it is would make a second one"))
	}
	return caution(LooksRenamed, fmt.Sprintf("%s is only in %s and looks like %s, which is only in %s: %s.", address, target, other,
		source, agree), do(PairThem, address, other, ""))
}
