package docket

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
)

// Replaying the chain, and holding the tables against it.

// replay is the chain as it is gone through.
type replay struct {
	decisions  []LogEntry
	comments   []Comment
	signatures []Signature
	earlier    []Earlier
	runs       *run.Replay
}

func (r *replay) take(kind, content string) error {
	read := func(into any) error { return json.Unmarshal([]byte(content), into) }
	switch kind {
	case linkDecide:
		var c decided
		err := read(&c)
		r.decisions = append(r.decisions, c.Verdicts...)
		return err
	case linkComment:
		var c commented
		err := read(&c)
		r.comments = append(r.comments, c.Comments...)
		return err
	case linkSign:
		var c signedOff
		err := read(&c)
		r.signatures = append(r.signatures, c.Signatures...)
		return err
	case linkEarlier:
		var c earlierApproved
		err := read(&c)
		r.earlier = append(r.earlier, c.Earlier...)
		return err
	default:
		return r.runs.Take(kind, content)
	}
}

// differs says in what the tables of a docket of some version are not as the chain says, "" where
// they are.
func (r *replay) differs(ctx context.Context, q sqlitefile.Queryer, version int) (string, error) {
	if wrong, err := form.MoreThanKnown(ctx, q, version); err != nil || wrong != "" {
		return wrong, err
	}
	log, missing, err := decisions(ctx, q, version)
	if err != nil {
		return "", err
	}
	if missing != 0 {
		return fmt.Sprintf("decision %d is missing", missing), nil
	}
	for i := range max(len(log), len(r.decisions)) {
		if i >= len(log) || i >= len(r.decisions) || log[i] != r.decisions[i] {
			return fmt.Sprintf("decision %d is not as its log says", i+1), nil
		}
	}
	if have, err := comments(ctx, q, version); err != nil || !slices.Equal(have, r.comments) {
		return "its comments are not as its log says", err
	}
	if have, err := signatures(ctx, q); err != nil || !slices.Equal(have, r.signatures) {
		return "its signatures are not as its log says", err
	}
	told := slices.Clone(r.earlier)
	slices.SortFunc(told, func(a, b Earlier) int { return int(a.Finding - b.Finding) })
	if have, err := earlier(ctx, q); err != nil || !slices.Equal(have, told) {
		return "the earlier approvals that it tells of are not as its log says", err
	}
	return r.runs.Differs(ctx, q)
}
