package docket

import (
	"context"

	"anagram/internal/core/decision"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
)

// How findings stand, by the words of the log. What several people's words add up to is said by
// core; dockets that were made before it was are read as they were then: the last word counts.

// standings gives what completes a finding with how it stands. Ids limits it, where there are any.
func (of Found) standings(ctx context.Context, ids []int64) (func(*Finding), error) {
	if of.version < form.ByPerson {
		return lastWords(ctx, of, ids)
	}
	words, err := wordsOn(ctx, of, ids)
	if err != nil {
		return nil, err
	}
	return func(f *Finding) {
		list := words[f.ID]
		if list == nil && f.DecidedBy != "" { // one word on the record, which came with it
			list = []decision.Word{{Who: f.DecidedBy, Decision: f.Decision, At: f.DecidedAt, Seq: f.Seq, Note: f.Note,
				Carried: f.CarriedFrom, Rule: f.ByRule}}
		}
		if list != nil {
			f.Standing = decision.Sum(f.Of(), list)
		}
		f.showFields()
	}, nil
}

// wordsOn gives what was said of findings of which more is said than one word on the record.
func wordsOn(ctx context.Context, of Found, ids []int64) (map[int64][]decision.Word, error) {
	type on struct {
		id int64
		decision.Word
	}
	only, args := onlyOf(ids)
	out := map[int64][]decision.Word{}
	same := map[string]string{} // very many have the same name, time and note
	once := func(text *string) {
		if had, ok := same[*text]; ok {
			*text = had
		} else {
			same[*text] = *text
		}
	}
	overrules := form.Overrules(of.version)
	for w, err := range sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (w on, err error) {
		return w, row.Scan(&w.id, &w.Seq, &w.Decision, &w.Field, &w.Who, &w.At, &w.Note, &w.Carried, &w.Rule, &w.Overrules)
	}, "SELECT finding, seq, decision, field, who, at, note, carried, rule, "+overrules+` FROM decisions
		WHERE finding IN (SELECT finding FROM decisions WHERE true `+only+` GROUP BY finding
			HAVING count(*) > 1 OR max(field) <> '' OR max(`+overrules+`)) ORDER BY seq`, args...) {
		if err != nil {
			return nil, err
		}
		once(&w.Who)
		once(&w.At)
		once(&w.Note)
		out[w.id] = append(out[w.id], w.Word)
	}
	return out, nil
}

// showFields says of fields what holds for them, where it is not what holds for the record.
func (f *Finding) showFields() {
	for i := range f.Fields {
		if on := f.On(f.Fields[i].Field); on != f.Decision {
			f.Fields[i].Decision = string(on)
		}
	}
}

// lastWords is standings by the rule of earlier forms.
func lastWords(ctx context.Context, of Found, ids []int64) (func(*Finding), error) {
	byField, err := of.fieldDecisions(ctx, ids)
	if err != nil {
		return nil, err
	}
	approvers, err := of.approvers(ctx, ids)
	if err != nil {
		return nil, err
	}
	return func(f *Finding) {
		if f.Approvers = approvers[f.ID]; f.Approvers == nil && f.Decision == decision.Approved && !f.ByRule {
			f.Approvers = []string{f.DecidedBy}
		}
		f.Take(byField[f.ID])
		f.showFields()
	}, nil
}

// approvers gives who approves findings on which more than one decision was made, of others the
// one decision tells.
func (of Found) approvers(ctx context.Context, ids []int64) (map[int64][]string, error) {
	type approver struct {
		id  int64
		who string
	}
	only, args := onlyOf(ids)
	out := map[int64][]string{}
	for a, err := range sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (a approver, err error) {
		return a, row.Scan(&a.id, &a.who)
	}, `SELECT d.finding, d.who FROM decisions d JOIN (SELECT max(seq) AS last, min(seq) AS first FROM decisions
		WHERE field = '' AND NOT rule AND finding IN (SELECT finding FROM decisions WHERE field = '' `+only+` GROUP BY finding HAVING count(*) > 1)
		GROUP BY finding, who) g ON g.last = d.seq WHERE d.decision = 'approved' ORDER BY g.first`, args...) {
		if err != nil {
			return nil, err
		}
		out[a.id] = append(out[a.id], a.who)
	}
	return out, nil
}

func (of Found) fieldDecisions(ctx context.Context, ids []int64) (map[int64]map[string]decision.OnField, error) {
	type decided struct {
		id    int64
		field string
		decision.OnField
	}
	only, args := onlyOf(ids)
	out := map[int64]map[string]decision.OnField{}
	for on, err := range sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (on decided, err error) {
		return on, row.Scan(&on.id, &on.field, &on.Seq, &on.Decision, &on.Who, &on.At, &on.Note, &on.Carried)
	}, "SELECT finding, field, max(seq), decision, who, at, note, carried FROM decisions WHERE field <> '' "+only+" GROUP BY finding, field", args...) {
		if err != nil {
			return nil, err
		}
		if out[on.id] == nil {
			out[on.id] = map[string]decision.OnField{}
		}
		out[on.id][on.field] = on.OnField
	}
	return out, nil
}

// onlyOf limits decisions to those on some findings, where there are any.
func onlyOf(ids []int64) (string, []any) {
	if len(ids) == 0 {
		return "", nil
	}
	marks, args := sqlitefile.Marks(ids)
	return "AND finding IN " + marks, args
}
