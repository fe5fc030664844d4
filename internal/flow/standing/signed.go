package standing

import (
	"context"
	"fmt"
	"os"
	"time"

	"anagram/internal/core/answers"
	"anagram/internal/core/decision"
	"anagram/internal/files/safe"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Namespace is what signatures of decisions are made for, so that no other signature of the
// same key counts as one.
const Namespace = "anagram"

// mostSigners is how large a list of allowed signers may be, in bytes.
const mostSigners = 1 << 20

// Signed is one decision of one person as a signature covers it: never a position in a log.
type Signed struct {
	Who, Address, Field, Note, At string
	Decision                      decision.Decision
}

// signatures says which decisions are signed so that it counts, and of whom why not.
type signatures struct {
	covers map[Signed]string // with the fingerprint of the key
	whole  map[Signed]bool   // approvals of records that take the source's side of every field
	why    map[Signed]string // why a signature of it does not count
}

// readSigners reads the list of allowed signers of a guard.
func readSigners(s *session.Session, environment, path string) (sshsig.Allowed, error) {
	text, err := safe.ReadSmall(s.Workspace.Path(path), mostSigners)
	if os.IsNotExist(err) {
		return sshsig.Allowed{}, session.Usage("The list of signers of %s, %s, is not there; its guard wants signed approvals",
			environment, path)
	}
	if err != nil {
		return sshsig.Allowed{}, err
	}
	allowed, err := sshsig.ParseAllowed(path, text)
	if err != nil {
		return allowed, session.Usage("The list of signers of %s cannot be used: %v", environment, err)
	}
	return allowed, nil
}

// readSignatures looks at every signature of a docket.
func readSignatures(ctx context.Context, d *docket.Docket, allowed sshsig.Allowed, now time.Time) (signatures, error) {
	out := signatures{covers: map[Signed]string{}, whole: map[Signed]bool{}, why: map[Signed]string{}}
	all, err := d.Signatures(ctx)
	if err != nil || len(all) == 0 {
		return out, err
	}
	digest, err := d.Digest(ctx)
	if err != nil {
		return out, err
	}
	for _, one := range all {
		file, why := proven(one, digest)
		by := ""
		if why == "" {
			key, err := sshsig.Verify([]byte(one.Signature), []byte(one.Text), Namespace)
			if err != nil {
				why = err.Error()
			} else {
				why, by = allowed.Refuses(file.Person, Namespace, key, now), sshsig.Fingerprint(key)
			}
		}
		for _, a := range file.Answers {
			if signed, ok := SignedBy(file.Person, a); ok && why != "" {
				out.why[signed] = why
			} else if ok {
				out.covers[signed] = by
				out.whole[signed] = out.whole[signed] || a.Take == "source"
			}
		}
	}
	return out, nil
}

// counts reports whether an approval in the log of a record is signed.
func (s signatures) counts(address string, e docket.LogEntry) bool { return s.keyOf(address, e) != "" }

// keyOf gives the fingerprint of the key under a decision in the log of a record, "" where no
// signature of it counts.
func (s signatures) keyOf(address string, e docket.LogEntry) string {
	one := Signed{Who: e.Who, Address: address, Field: e.Field, Note: e.Note, At: e.At, Decision: e.Decision}
	if key := s.covers[one]; key != "" {
		return key
	}
	if one.Field = ""; e.Field != "" && s.whole[one] {
		return s.covers[one]
	}
	return ""
}

// not says why an approval of a person does not count.
func (s signatures) not(who, address string) string {
	for signed, why := range s.why {
		if signed.Who == who && signed.Address == address {
			return fmt.Sprintf("A signature of %s does not count: %s.", who, why)
		}
	}
	return fmt.Sprintf("%s approved it without a signature.", who)
}

// proven reads what a signature is under; why says what is wrong with it, "" for nothing. It
// does not look at the key.
func proven(one docket.Signature, digest string) (file answers.File, why string) {
	file, err := answers.Read([]byte(one.Text))
	switch {
	case err != nil:
		return file, "what was signed cannot be read: " + err.Error()
	case file.Digest != digest:
		return file, "what was signed is about another docket, or an earlier match"
	case file.Person != one.Who:
		return file, fmt.Sprintf("what was signed is in the name of %s", file.Person)
	}
	return file, ""
}

// SignedBy gives the decision that a signed answer covers; ok is false where it is none.
func SignedBy(person string, a answers.Answer) (one Signed, ok bool) {
	one = Signed{Who: person, Address: a.Address, Field: a.Field, Note: a.Note, At: a.At}
	if at, err := time.Parse(time.RFC3339, a.At); err == nil {
		one.At = run.Stamp(at) // as the log has it
	}
	one.Decision, ok = DecisionOf(a.Decision, a.Take)
	return one, ok
}

// DecisionOf gives the decision of an answer's words; ok is false where it only comments.
func DecisionOf(word, take string) (d decision.Decision, ok bool) {
	switch {
	case word == "approve" && take == "target":
		return decision.TargetKept, true
	case word == "approve":
		return decision.Approved, true
	case word == "decline":
		return decision.Declined, true
	case word == "hold":
		return decision.Held, true
	case word == "reopen":
		return decision.Undecided, true
	}
	return "", false
}

// AnswerOf gives the answer that says what an entry of a log says.
func AnswerOf(address string, e docket.LogEntry) answers.Answer {
	a := answers.Answer{Address: address, Field: e.Field, Note: e.Note, At: e.At}
	switch e.Decision {
	case decision.Approved:
		a.Decision = "approve"
		if e.Field != "" {
			a.Take = "source"
		}
	case decision.TargetKept:
		a.Decision, a.Take = "approve", "target"
	case decision.Declined:
		a.Decision = "decline"
	case decision.Held:
		a.Decision = "hold"
	default:
		a.Decision = "reopen"
	}
	return a
}
