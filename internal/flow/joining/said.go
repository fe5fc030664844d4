package joining

import (
	"context"
	"fmt"

	"anagram/internal/core/decision"
	"anagram/internal/core/limit"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

// What was said and signed elsewhere.

// joinComments adds what was said in copies and is not known here, and gives how much that is
// for each copy.
func joinComments(ctx context.Context, s *session.Session, d *docket.Docket, copies [][]docket.Comment) ([]int, error) {
	own, err := d.Comments(ctx)
	if err != nil {
		return nil, err
	}
	known := map[docket.Comment]bool{}
	for _, c := range own {
		known[c] = true
	}
	counts := make([]int, len(copies))
	var fresh []docket.Comment
	for i, said := range copies {
		for _, c := range said {
			if !known[c] {
				known[c] = true
				fresh = append(fresh, c)
				counts[i]++
			}
		}
	}
	return counts, d.Comment(ctx, s.Who, s.Now(), fresh)
}

// joinSignatures adds the signatures of copies that are not known here, and gives how many.
func joinSignatures(ctx context.Context, s *session.Session, d *docket.Docket, copies [][]docket.Signature) (int, error) {
	own, err := d.Signatures(ctx)
	if err != nil {
		return 0, err
	}
	type content struct{ who, text, signature string }
	known := map[content]bool{}
	for _, one := range own {
		known[content{one.Who, one.Text, one.Signature}] = true
	}
	var fresh []docket.Signature
	for _, given := range copies {
		for _, one := range given {
			if c := (content{one.Who, one.Text, one.Signature}); !known[c] {
				known[c] = true
				fresh = append(fresh, one)
			}
		}
	}
	return len(fresh), d.Sign(ctx, s.Who, s.Now(), fresh)
}

// signaturesOf reads the signatures of a copy.
func signaturesOf(ctx context.Context, path string, of *docket.Docket) ([]docket.Signature, error) {
	given, err := of.Signatures(ctx)
	if err != nil {
		return nil, err
	}
	for i, one := range given {
		if len(one.Text) > limit.Answers || len(one.Signature) > limit.Configuration || decide.Words("the name", one.Who) != nil {
			return nil, session.Usage("%s: signature %d is larger than any. Nothing was read in", path, i+1)
		}
	}
	return given, nil
}

// commentsOf reads the comments of a copy, each of which has to be about one of its findings.
func commentsOf(ctx context.Context, path string, of *docket.Docket, findings map[int64]docket.Finding) ([]docket.Comment, error) {
	said, err := of.Comments(ctx)
	if err != nil {
		return nil, err
	}
	for i, c := range said {
		if _, there := findings[c.Finding]; !there || decision.Unfit(c.Who) != "" || c.To != "" && decision.Unfit(c.To) != "" ||
			decide.Words("the comment", c.Text) != nil {
			return nil, session.Usage("%s", fmt.Sprintf("%s: comment %d is none that can be made in docket %d. Nothing was read in",
				path, i+1, of.Header.Number))
		}
	}
	return said, nil
}
