package decide

import (
	"context"

	"anagram/internal/core/answers"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// SignResult says what was signed.
type SignResult struct {
	Decisions int
	Key       string // fingerprint
	// Refused is why the target does not take a signature with this key, "" where it does, or where
	// it asks for none.
	Refused string
}

// Sign signs what the person at work decided in a docket and did not sign before, with an SSH
// key. What they decided in another's name is not signed.
func Sign(ctx context.Context, s *session.Session, d *docket.Docket, from sshsig.Source) (SignResult, error) {
	var out SignResult
	demand, err := standing.Demanded(s, d)
	if err != nil {
		return out, err
	}
	file, err := unsigned(ctx, s, d, demand)
	if err != nil || len(file.Answers) == 0 {
		return out, err
	}
	text, err := answers.Append(nil, file)
	if err != nil {
		return out, err
	}
	signer, done, err := from.Signer(ctx)
	defer done()
	if err != nil {
		return out, session.Usage("Nothing was signed: %v", err)
	}
	signature, err := sshsig.Sign(signer, standing.Namespace, text)
	if err != nil {
		return out, session.Usage("Nothing was signed: the key does not sign: %v", err)
	}
	if err := d.Sign(ctx, "", s.Now(), []docket.Signature{{Who: s.Who, Text: string(text), Signature: string(signature)}}); err != nil {
		return out, err
	}
	return SignResult{Decisions: len(file.Answers), Key: sshsig.Fingerprint(signer.PublicKey()),
		Refused: demand.Refuses(s.Who, signer.PublicKey())}, nil
}

// unsigned gives what the person decided and no signature in their name covers so that it counts.
func unsigned(ctx context.Context, s *session.Session, d *docket.Docket, demand standing.Demand) (answers.File, error) {
	digest, err := d.Digest(ctx)
	if err != nil {
		return answers.File{}, err
	}
	file := answers.File{Docket: d.Header.Number, Digest: digest, Person: s.Who, SavedAt: run.Stamp(s.Now())}
	covered := map[standing.Signed]bool{}
	all, err := d.Signatures(ctx)
	if err != nil {
		return file, err
	}
	for _, one := range all {
		given, err := answers.Read([]byte(one.Text))
		if err != nil || given.Person != s.Who || given.Digest != digest || demand.Unsigned(one) {
			continue // what was signed with a key that does not count can be signed again
		}
		for _, a := range given.Answers {
			if signed, ok := standing.SignedBy(given.Person, a); ok {
				covered[signed] = true
			}
		}
	}
	log, err := d.Log(ctx)
	if err != nil {
		return file, err
	}
	addresses := map[int64]string{}
	for f, err := range d.Found.Stands(ctx) {
		if err != nil {
			return file, err
		}
		addresses[f.ID] = f.Address
	}
	for _, e := range log {
		if e.Who != s.Who || e.Rule || e.Carried != 0 {
			continue
		}
		a := standing.AnswerOf(addresses[e.Finding], e)
		if signed, ok := standing.SignedBy(s.Who, a); ok && !covered[signed] {
			covered[signed] = true
			file.Answers = append(file.Answers, a)
		}
	}
	return file, nil
}
