package standing

import (
	"context"
	"fmt"
	"os"
	"time"

	"anagram/internal/core/answers"
	"anagram/internal/files/safe"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

// Namespace is what signatures of decisions are made for, so that no other signature of the
// same key counts as one.
const Namespace = "anagram"

// mostSigners is how large a list of allowed signers may be, in bytes.
const mostSigners = 1 << 20

// Signed is one decision of one person as a signature covers it: never a position in a log.
type Signed struct {
	Who, Address, Field, Note, At string
	Decision                      docket.Decision
}

// signatures says which decisions are signed so that it counts, and of whom why not.
type signatures struct {
	covers map[Signed]bool
	whole  map[Signed]bool   // approvals of records that take the source's side of every field
	why    map[string]string // person -> why a signature of theirs does not count
}

// readSigners reads the list of allowed signers of a guard.
func readSigners(s *session.Session, environment, path string) (sshsig.Allowed, error) {
	text, err := safe.ReadSmall(s.Workspace.Path(path), mostSigners)
	if os.IsNotExist(err) {
		return sshsig.Allowed{}, session.Usage("The list of signers of %s, %s, is not there; its guard wants signed approvals", environment, path)
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
	out := signatures{covers: map[Signed]bool{}, whole: map[Signed]bool{}, why: map[string]string{}}
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
		if why == "" {
			key, err := sshsig.Verify([]byte(one.Signature), []byte(one.Text), Namespace)
			if err != nil {
				why = err.Error()
			} else {
				why = allowed.Refuses(file.Person, Namespace, key, now)
			}
		}
		if why != "" {
			out.why[one.Who] = why
			continue
		}
		for _, a := range file.Answers {
			if signed, ok := SignedBy(file.Person, a); ok {
				out.covers[signed] = true
				out.whole[signed] = out.whole[signed] || a.Take == "source"
			}
		}
	}
	return out, nil
}

// counts reports whether an approval in the log of a record is signed.
func (s signatures) counts(address string, e docket.LogEntry) bool {
	one := Signed{Who: e.Who, Address: address, Field: e.Field, Note: e.Note, At: e.At, Decision: e.Decision}
	if s.covers[one] {
		return true
	}
	one.Field = ""
	return e.Field != "" && s.whole[one]
}

// not says why an approval of a person does not count.
func (s signatures) not(who string) string {
	if why, ok := s.why[who]; ok {
		return fmt.Sprintf("A signature of %s does not count: %s.", who, why)
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
	one.Decision, ok = DecisionOf(a.Decision, a.Take)
	return one, ok
}

// DecisionOf gives the decision of an answer's words; ok is false where it only comments.
func DecisionOf(word, take string) (d docket.Decision, ok bool) {
	switch {
	case word == "approve" && take == "target":
		return docket.TargetKept, true
	case word == "approve":
		return docket.Approved, true
	case word == "decline":
		return docket.Declined, true
	case word == "hold":
		return docket.Held, true
	case word == "reopen":
		return docket.Undecided, true
	}
	return "", false
}

// AnswerOf gives the answer that says what an entry of a log says.
func AnswerOf(address string, e docket.LogEntry) answers.Answer {
	a := answers.Answer{Address: address, Field: e.Field, Note: e.Note, At: e.At}
	switch e.Decision {
	case docket.Approved:
		a.Decision = "approve"
		if e.Field != "" {
			a.Take = "source"
		}
	case docket.TargetKept:
		a.Decision, a.Take = "approve", "target"
	case docket.Declined:
		a.Decision = "decline"
	case docket.Held:
		a.Decision = "hold"
	default:
		a.Decision = "reopen"
	}
	return a
}
