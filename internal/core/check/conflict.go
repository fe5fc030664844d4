package check

import (
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/known"
	"anagram/internal/core/record"
)

// Side is when and by whom a record was last changed on one side, as its environment
// tells; empty where it does not.
type Side struct {
	Environment, At, By string
	Zone                *time.Location // of a time without one; nil is not known
	Own                 *known.Own     // where that was an import or a restore of this workspace; else nil
}

// sideOf gives what is known of the last change of a record on one side; entry is what was known of it
// before. What a restore wrote leaves who changed the record before it.
func sideOf(environment string, zone *time.Location, rec, entry *record.Record) Side {
	side := Side{Environment: environment, Zone: zone}
	if rec == nil {
		return side
	}
	side.At, side.By, side.Own = rec.ChangedAt, rec.ChangedBy, known.OwnOf(entry, environment, rec)
	if side.Own != nil && side.Own.Restore && side.Own.WasAt != "" {
		side.At, side.By, side.Own = side.Own.WasAt, side.Own.WasBy, nil
	}
	return side
}

func (s Side) changed() string {
	if s.At == "" {
		return "in " + s.Environment + " it is not known when"
	}
	at := strings.Replace(strings.TrimSuffix(s.At, "Z"), "T", " ", 1)
	if strings.HasSuffix(s.At, "Z") {
		at += " UTC"
	} else if t, ok := known.Moment(s.At, s.Zone); ok && s.Zone != nil {
		at += t.Format(" MST")
	}
	if s.Own != nil {
		what := "import"
		if s.Own.Restore {
			what = "restore"
		}
		return fmt.Sprintf("in %s on %s by the %s of docket %d", s.Environment, at, what, s.Own.Docket)
	}
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
	case "created-on-both": // madeTwice completes it
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

// madeTwice says that a record was made on either side on its own, since all of its type was first compared.
func madeTwice(address, typ string, last known.Coverage, source, target Side) Check {
	c, _ := Conflict("created-on-both", address, nil, source, target)
	c.Message = fmt.Sprintf("%s was made in %s and in %s, each on its own, after docket %d compared all of %s on %s; they differ. Last changed: %s, %s.",
		address, source.Environment, target.Environment, last.Docket, typ, onDay(last.At), source.changed(), target.changed())
	return c
}

// goneFromSource says that the source has a record no more that both sides had; since is nil where this
// match finds it first, and edited are the fields that the target changed since both agreed.
func goneFromSource(address, source string, since *known.Gone, edited []string, target Side) Check {
	text := fmt.Sprintf("%s was on both sides and is no longer in %s; this match finds it first.", address, source)
	if since != nil {
		text = fmt.Sprintf("%s was on both sides and is no longer in %s, as docket %d found first on %s.", address, source, since.Docket,
			onDay(since.At))
	}
	switch {
	case len(edited) == 1:
		text += fmt.Sprintf(" Field %s was changed in %s since both agreed: %s.", edited[0], target.Environment, target.changed())
	case len(edited) > 1:
		text += fmt.Sprintf(" Fields %s were changed in %s since both agreed: %s.", strings.Join(edited, ", "), target.Environment,
			target.changed())
	}
	return caution("removed-in-source", text,
		say("remove it in %s itself, where it is to go; an import never does", target.Environment),
		say("bring it back in %s and export again", source))
}

// cannotBeExplained says that a record differs though neither side changed it since one was copied from
// the other, as far as their stamps tell.
func cannotBeExplained(address string, source, target Side) Check {
	return caution("cannot-be-explained", fmt.Sprintf("%s differs, but by their stamps neither side changed it since one was copied from the other: %s, %s.",
		address, source.changed(), target.changed()),
		say("find out which is right, as somebody changed it without leaving a stamp; then approve or decline it"))
}

// onDay writes a moment to the minute, in UTC.
func onDay(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.UTC().Format("2006-01-02 15:04 UTC")
}

// editedSince says that fields, which an import wrote that is taken back, were changed after it.
func editedSince(address string, fields []string, docket int, target Side) Check {
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
