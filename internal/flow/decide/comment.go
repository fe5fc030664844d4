package decide

import (
	"context"
	"slices"
	"strings"
	"unicode/utf8"

	"anagram/internal/core/decision"
	"anagram/internal/core/limit"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Comment asks or answers something on a finding without deciding it, and gives the address
// that it was said on. To is who is asked, "" for nobody in particular.
func Comment(ctx context.Context, s *session.Session, d *docket.Docket, address, text, to string) (string, error) {
	if err := Words("the comment", text); err != nil {
		return "", err
	}
	if strings.TrimSpace(text) == "" {
		return "", session.Usage("The comment is empty; nothing was said")
	}
	if why := decision.Unfit(to); to != "" && why != "" {
		return "", session.Usage("The name after --to cannot be used: %s", why)
	}
	return said(ctx, s, d, address, docket.Comment{Text: text, To: strings.TrimSpace(to)})
}

// Withdraw takes back what the person at work asked on a finding: it waits for nobody any more.
func Withdraw(ctx context.Context, s *session.Session, d *docket.Docket, address string) (string, error) {
	f, err := one(ctx, d, address)
	if err != nil {
		return "", err
	}
	all, err := questions(ctx, d)
	if err != nil {
		return "", err
	}
	if !slices.ContainsFunc(all, func(q Question) bool { return q.finding == f.ID && decision.Name(q.By) == decision.Name(s.Who) }) {
		return "", session.Usage("Nothing that %s asked about %s waits for an answer", s.Who, f.Address)
	}
	return said(ctx, s, d, address, docket.Comment{Text: "withdrawn", Withdraws: true})
}

func said(ctx context.Context, s *session.Session, d *docket.Docket, address string, c docket.Comment) (string, error) {
	f, err := one(ctx, d, address)
	if err != nil {
		return "", err
	}
	c.At, c.Who, c.Finding = run.Stamp(s.Now()), s.Who, f.ID
	return f.Address, d.Comment(ctx, "", s.Now(), []docket.Comment{c})
}

// Question is a comment that waits for somebody's answer.
type Question struct {
	Address, By, To, At, Text string
	finding                   int64
}

// Questions lists what somebody is asked and did not answer.
func Questions(ctx context.Context, d *docket.Docket, who string) ([]Question, error) {
	all, err := questions(ctx, d)
	return slices.DeleteFunc(all, func(q Question) bool { return decision.Name(q.To) != decision.Name(who) }), err
}

// questions lists what waits for an answer: until who is asked comments or decides on the finding,
// or who asked withdraws it.
func questions(ctx context.Context, d *docket.Docket) ([]Question, error) {
	comments, err := d.Comments(ctx)
	if err != nil {
		return nil, err
	}
	var open []Question
	for _, c := range comments {
		open = slices.DeleteFunc(open, func(q Question) bool {
			answered := decision.Name(q.To) == decision.Name(c.Who)
			withdrawn := c.Withdraws && decision.Name(q.By) == decision.Name(c.Who)
			return q.finding == c.Finding && (answered || withdrawn)
		})
		if c.To != "" {
			open = append(open, Question{By: c.Who, To: c.To, At: c.At, Text: c.Text, finding: c.Finding})
		}
	}
	if len(open) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(open))
	for i, q := range open {
		ids[i] = q.finding
	}
	for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: ids}) {
		if err != nil {
			return nil, err
		}
		for i := range open {
			if open[i].finding == f.ID {
				open[i].Address = f.Address
			}
		}
		open = slices.DeleteFunc(open, func(q Question) bool {
			return q.finding == f.ID && slices.ContainsFunc(f.Said(), func(w decision.Word) bool {
				return decision.Name(w.Who) == decision.Name(q.To) && w.At >= q.At
			})
		})
	}
	return open, nil
}

// Words refuses a note or a comment that is no text or too long.
func Words(what, text string) error {
	if !utf8.ValidString(text) {
		return session.Usage("%s is not text in UTF-8; nothing was kept", strings.ToUpper(what[:1])+what[1:])
	}
	if n := utf8.RuneCountInString(text); n > limit.Words {
		return session.Usage("%s has %d characters; %d are the most. Nothing was kept", strings.ToUpper(what[:1])+what[1:], n, limit.Words)
	}
	return nil
}

// one gives the finding of a record that is named in full.
func one(ctx context.Context, d *docket.Docket, address string) (docket.Finding, error) {
	filter, err := findingFilter(d, Which{Patterns: []string{address}})
	if err != nil {
		return docket.Finding{}, err
	}
	if !filter.Patterns[0].Exact() {
		return docket.Finding{}, session.Usage("%s is a pattern; name one record in full, such as assay/GLU", address)
	}
	for f, err := range d.Found.Findings(ctx, filter) {
		return f, err
	}
	return docket.Finding{}, session.Usage("Docket %d has no finding of %s; anagram review lists what there is", d.Header.Number, address)
}
