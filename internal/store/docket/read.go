package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// Filter limits findings. Empty members do not limit.
type Filter struct {
	Types    []string
	Statuses []match.Status
	Patterns []record.Pattern
	Group    int // number of a group, 0 for all
	IDs      []int64
	Before   bool // only those that an earlier docket approved
	// ByGroup orders the findings by group, the head of each first.
	ByGroup bool
	// ByStatus orders the findings of a type by status, in the order of match.Statuses,
	// before their keys.
	ByStatus bool
	decided  bool            // only those with a decision
	brief    bool            // without what does not tell how they stand
	byWas    map[string]bool // patterns that stand for the target's name of a record
}

// Fit tells for each pattern whether a finding fits it. A name in full that the target has
// for a record stands for it only where no finding has that name itself: a record must not
// be decided because another one was named.
func (f Filter) Fit(of Finding) []bool {
	out := make([]bool, len(f.Patterns))
	for i, p := range f.Patterns {
		out[i] = p.Match(of.Address) || of.Was != "" && f.byWas[p.String()] && p.Match(of.Was)
	}
	return out
}

// fits reports whether a finding is among those wanted.
func (f Filter) fits(of Finding) bool {
	return len(f.Patterns) == 0 || slices.Contains(f.Fit(of), true)
}

// WithNames completes a filter with which of its names in full only the target has.
func (d *Docket) WithNames(ctx context.Context, f Filter) (Filter, error) {
	f.byWas = map[string]bool{}
	for _, p := range f.Patterns {
		if p.Exact() {
			f.byWas[p.String()] = true
		}
	}
	if len(f.byWas) == 0 {
		return f, nil
	}
	rows, err := d.db.QueryContext(ctx, "SELECT address FROM findings WHERE EXISTS (SELECT 1 FROM findings WHERE was <> '')")
	if err != nil {
		return f, d.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var address string
		if err := rows.Scan(&address); err != nil {
			return f, d.wrap(err)
		}
		for _, p := range f.Patterns {
			if p.Exact() && p.Match(address) {
				delete(f.byWas, p.String())
			}
		}
	}
	return f, d.wrap(rows.Err())
}

// Findings streams findings by type, in dependency order, and within it by key, or by
// status first where the filter says so.
func (d *Docket) Findings(ctx context.Context, filter Filter) iter.Seq2[Finding, error] {
	return func(yield func(Finding, error) bool) {
		if err := d.findings(ctx, filter, func(f Finding) bool { return yield(f, nil) }); err != nil {
			yield(Finding{}, d.wrap(err))
		}
	}
}

// Decided streams the findings on which something was decided, in the same order.
func (d *Docket) Decided(ctx context.Context) iter.Seq2[Finding, error] {
	return d.Findings(ctx, Filter{decided: true})
}

// Stands streams the same with only what tells how they stand: sides, key and title are left
// out, and of the target's side there is only whether there is one.
func (d *Docket) Stands(ctx context.Context) iter.Seq2[Finding, error] {
	return d.Findings(ctx, Filter{decided: true, brief: true})
}

// Outlines streams all findings, each with only that.
func (d *Docket) Outlines(ctx context.Context) iter.Seq2[Finding, error] {
	return d.Findings(ctx, Filter{brief: true})
}

func (d *Docket) findings(ctx context.Context, filter Filter, yield func(Finding) bool) error {
	byField, err := d.fieldDecisions(ctx, filter.IDs)
	if err != nil {
		return err
	}
	approvers, err := d.approvers(ctx, filter.IDs)
	if err != nil {
		return err
	}
	if filter.byWas == nil {
		if filter, err = d.WithNames(ctx, filter); err != nil {
			return err
		}
	}
	query, args := filter.query()
	rows, err := d.db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		f, err := scanFinding(rows)
		if err != nil {
			return err
		}
		if !filter.fits(f) {
			continue
		}
		if f.Approvers = approvers[f.ID]; f.Approvers == nil && f.Decision == Approved && !f.ByRule {
			f.Approvers = []string{f.DecidedBy}
		}
		f.take(byField[f.ID])
		if !yield(f) {
			return nil
		}
	}
	return rows.Err()
}

// query is the statement for the findings that fit, patterns left aside.
func (f Filter) query() (string, []any) {
	record := "f.key_order, f.key, f.address, f.was, f.title, f.status, f.reasons, ifnull(f.source, ''), ifnull(f.target, ''), ifnull(f.agreed, '')"
	if f.brief {
		record = "'', '', f.address, f.was, '', f.status, f.reasons, '', iif(f.target IS NULL, '', ' '), ''"
	}
	query := `SELECT f.id, f.type, ` + record + `, f.fields,
		ifnull(d.decision, 'open'), ifnull(d.who, ''), ifnull(d.at, ''), ifnull(d.note, ''), ifnull(d.carried, 0), ifnull(d.rule, 0), ifnull(d.seq, 0),
		CASE WHEN d.decision = 'approved' THEN ifnull((SELECT max(seq) FROM decisions WHERE finding = f.id AND field = '' AND decision <> 'approved'), 0) ELSE 0 END,
		m.grp, m.owner, ifnull(e.docket, 0), ifnull(e.who, '')
		FROM findings f JOIN members m ON m.finding = f.id LEFT JOIN earlier e ON e.finding = f.id
		LEFT JOIN decisions d ON d.seq = (SELECT max(seq) FROM decisions WHERE finding = f.id AND field = '')`
	var where []string
	var args []any
	limit := func(column string, values []string) {
		if len(values) == 0 {
			return
		}
		where = append(where, column+" IN (?"+strings.Repeat(", ?", len(values)-1)+")")
		for _, v := range values {
			args = append(args, v)
		}
	}
	limit("f.type", f.Types)
	var statuses []string
	for _, s := range f.Statuses {
		statuses = append(statuses, string(s))
	}
	limit("f.status", statuses)
	if len(f.IDs) > 0 {
		list, ids := idList(f.IDs)
		where, args = append(where, "f.id IN "+list), append(args, ids...)
	}
	if f.Group != 0 {
		where, args = append(where, "m.grp = ?"), append(args, f.Group)
	}
	if f.Before {
		where = append(where, "e.finding IS NOT NULL")
	}
	if f.decided {
		where = append(where, "f.id IN (SELECT finding FROM decisions)")
	}
	if len(where) > 0 {
		query += " WHERE " + strings.Join(where, " AND ")
	}
	if f.ByGroup {
		return query + " ORDER BY m.grp, f.id <> (SELECT head FROM groups g WHERE g.id = m.grp), f.id", args
	}
	if !f.ByStatus {
		return query + " ORDER BY f.id", args
	}
	query += " ORDER BY f.rank, CASE f.status"
	for i, status := range match.Statuses() {
		query += fmt.Sprintf(" WHEN '%s' THEN %d", status, i)
	}
	return query + " END, f.id", args
}

func scanFinding(rows *sql.Rows) (Finding, error) {
	var f Finding
	var order []byte
	var reasons, fields string
	err := rows.Scan(&f.ID, &f.Type, &order, &f.Key, &f.Address, &f.Was, &f.Title, &f.Status, &reasons, &f.Source, &f.Target, &f.Agreed, &fields,
		&f.Decision, &f.DecidedBy, &f.DecidedAt, &f.Note, &f.CarriedFrom, &f.ByRule, &f.Seq, &f.Stopped, &f.Group, &f.Owner, &f.Before.Docket, &f.Before.Who)
	if err != nil {
		return f, err
	}
	f.Order, f.Reasons = string(order), []match.Reason{}
	if reasons != "[]" {
		err = json.Unmarshal([]byte(reasons), &f.Reasons)
	}
	return f, errors.Join(err, json.Unmarshal([]byte(fields), &f.Fields))
}

// take fills in the decisions on single fields that count beside the record's.
func (f *Finding) take(byField map[string]decision.OnField) {
	f.Take(byField)
	for i := range f.Fields {
		if on := f.On(f.Fields[i].Field); on != f.Decision {
			f.Fields[i].Decision = string(on)
		}
	}
}

// approvers gives who approves findings on which more than one decision was made, of others the
// one decision tells.
func (d *Docket) approvers(ctx context.Context, ids []int64) (map[int64][]string, error) {
	only, args := onlyOf(ids)
	rows, err := d.db.QueryContext(ctx, "SELECT d.finding, d.who FROM decisions d JOIN (SELECT max(seq) AS last, min(seq) AS first FROM decisions WHERE field = '' AND NOT rule AND finding IN (SELECT finding FROM decisions WHERE field = '' "+only+" GROUP BY finding HAVING count(*) > 1) GROUP BY finding, who) g ON g.last = d.seq WHERE d.decision = 'approved' ORDER BY g.first", args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64][]string{}
	for rows.Next() {
		var id int64
		var who string
		if err := rows.Scan(&id, &who); err != nil {
			return nil, err
		}
		out[id] = append(out[id], who)
	}
	return out, rows.Err()
}

func (d *Docket) fieldDecisions(ctx context.Context, ids []int64) (map[int64]map[string]decision.OnField, error) {
	only, args := onlyOf(ids)
	rows, err := d.db.QueryContext(ctx, "SELECT finding, field, max(seq), decision, who, at, note, carried FROM decisions WHERE field <> '' "+only+" GROUP BY finding, field", args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]map[string]decision.OnField{}
	for rows.Next() {
		var id int64
		var field string
		var on decision.OnField
		if err := rows.Scan(&id, &field, &on.Seq, &on.Decision, &on.Who, &on.At, &on.Note, &on.Carried); err != nil {
			return nil, err
		}
		if out[id] == nil {
			out[id] = map[string]decision.OnField{}
		}
		out[id][field] = on
	}
	return out, rows.Err()
}

// Checks gives the checks on the whole docket under 0 and the others by finding.
func (d *Docket) Checks(ctx context.Context) (map[int64][]Check, error) { return d.checks(ctx, "") }

func (d *Docket) checks(ctx context.Context, where string, args ...any) (map[int64][]Check, error) {
	rows, err := d.db.QueryContext(ctx, "SELECT ifnull(finding, 0), code, level, message, mend, fields, writes, partial FROM checks "+where+" ORDER BY rowid", args...)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	out := map[int64][]Check{}
	for rows.Next() {
		var id int64
		var c Check
		var fields, writes string
		if err := rows.Scan(&id, &c.Code, &c.Level, &c.Message, &c.Mend, &fields, &writes, &c.Partial); err != nil {
			return nil, d.wrap(err)
		}
		if err := errors.Join(json.Unmarshal([]byte(fields), &c.Fields), json.Unmarshal([]byte(writes), &c.Writes)); err != nil {
			return nil, d.wrap(err)
		}
		out[id] = append(out[id], c)
	}
	return out, d.wrap(rows.Err())
}

// Needs streams the needs that new findings of this docket satisfy, by finding; with
// all also those that the target satisfies.
func (d *Docket) Needs(ctx context.Context, all bool) iter.Seq2[Need, error] {
	return func(yield func(Need, error) bool) {
		rows, err := d.db.QueryContext(ctx, `SELECT finding, field, owner, required, by_name, type, key, address, in_target, needed, frees FROM needs
			WHERE ? OR needed <> 0 ORDER BY finding, rowid`, all)
		if err != nil {
			yield(Need{}, d.wrap(err))
			return
		}
		defer rows.Close()
		for rows.Next() {
			var n Need
			if err := rows.Scan(&n.Holder, &n.Field, &n.Owner, &n.Required, &n.ByName, &n.Type, &n.Key, &n.Address, &n.InTarget, &n.Finding, &n.Frees); err != nil {
				yield(Need{}, d.wrap(err))
				return
			}
			if !yield(n, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(Need{}, d.wrap(err))
		}
	}
}

// Sides reads the source and target lines of some findings.
func (d *Docket) Sides(ctx context.Context, ids []int64) (map[int64]Finding, error) {
	out := make(map[int64]Finding, len(ids))
	if len(ids) == 0 {
		return out, nil
	}
	d.turn.RLock()
	defer d.turn.RUnlock()
	args := make([]any, len(ids))
	for i, id := range ids {
		args[i] = id
	}
	rows, err := d.db.QueryContext(ctx, "SELECT id, type, status, address, key, key_order, ifnull(source, ''), ifnull(target, ''), ifnull(agreed, '') FROM findings WHERE id IN (?"+strings.Repeat(", ?", len(ids)-1)+")", args...)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var f Finding
		var order []byte
		if err := rows.Scan(&f.ID, &f.Type, &f.Status, &f.Address, &f.Key, &order, &f.Source, &f.Target, &f.Agreed); err != nil {
			return nil, d.wrap(err)
		}
		f.Order = string(order)
		out[f.ID] = f
	}
	return out, d.wrap(rows.Err())
}

// Keyed is a finding of which only the key is read.
type Keyed struct {
	ID       int64
	Type     string
	Key      string // as in a record line
	Order    string
	InTarget bool
}

// Keys streams the keys of all findings.
func (d *Docket) Keys(ctx context.Context) iter.Seq2[Keyed, error] {
	return func(yield func(Keyed, error) bool) {
		rows, err := d.db.QueryContext(ctx, "SELECT id, type, key, key_order, target IS NOT NULL FROM findings ORDER BY id")
		if err != nil {
			yield(Keyed{}, d.wrap(err))
			return
		}
		defer rows.Close()
		for rows.Next() {
			var k Keyed
			var order []byte
			if err := rows.Scan(&k.ID, &k.Type, &k.Key, &order, &k.InTarget); err != nil {
				yield(Keyed{}, d.wrap(err))
				return
			}
			k.Order = string(order)
			if !yield(k, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(Keyed{}, d.wrap(err))
		}
	}
}

// onlyOf limits decisions to those on some findings, where there are any.
func onlyOf(ids []int64) (string, []any) {
	if len(ids) == 0 {
		return "", nil
	}
	list, args := idList(ids)
	return "AND finding IN " + list, args
}
