package docket

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/files/sqlitefile"
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
func (of Found) WithNames(ctx context.Context, filter Filter) (Filter, error) {
	filter.byWas = map[string]bool{}
	for _, p := range filter.Patterns {
		if p.Exact() {
			filter.byWas[p.String()] = true
		}
	}
	if len(filter.byWas) == 0 {
		return filter, nil
	}
	for address, err := range sqlitefile.Rows(ctx, of.db, sqlitefile.One[string],
		"SELECT address FROM findings WHERE EXISTS (SELECT 1 FROM findings WHERE was <> '')") {
		if err != nil {
			return filter, of.wrap(err)
		}
		for _, p := range filter.Patterns {
			if p.Exact() && p.Match(address) {
				delete(filter.byWas, p.String())
			}
		}
	}
	return filter, nil
}

// Findings streams findings by type, in dependency order, and within it by key, or by
// status first where the filter says so.
func (of Found) Findings(ctx context.Context, filter Filter) iter.Seq2[Finding, error] {
	return func(yield func(Finding, error) bool) {
		if err := of.findings(ctx, filter, func(f Finding) bool { return yield(f, nil) }); err != nil {
			yield(Finding{}, of.wrap(err))
		}
	}
}

// Decided streams the findings on which something was decided, in the same order.
func (of Found) Decided(ctx context.Context) iter.Seq2[Finding, error] {
	return of.Findings(ctx, Filter{decided: true})
}

// Stands streams the same with only what tells how they stand: sides, key and title are left
// out, and of the target's side there is only whether there is one.
func (of Found) Stands(ctx context.Context) iter.Seq2[Finding, error] {
	return of.Findings(ctx, Filter{decided: true, brief: true})
}

// Outlines streams all findings, each with only that.
func (of Found) Outlines(ctx context.Context) iter.Seq2[Finding, error] {
	return of.Findings(ctx, Filter{brief: true})
}

func (of Found) findings(ctx context.Context, filter Filter, yield func(Finding) bool) error {
	stands, err := of.standings(ctx, filter.IDs)
	if err != nil {
		return err
	}
	if filter.byWas == nil {
		if filter, err = of.WithNames(ctx, filter); err != nil {
			return err
		}
	}
	query, args := filter.query()
	for f, err := range sqlitefile.Rows(ctx, of.db, scanFinding, query, args...) {
		if err != nil {
			return err
		}
		if !filter.fits(f) {
			continue
		}
		stands(&f)
		if !yield(f) {
			return nil
		}
	}
	return nil
}

// query is the statement for the findings that fit, patterns left aside.
func (f Filter) query() (string, []any) {
	record := "f.key_order, f.key, f.address, f.was, f.title, f.status, f.reasons, ifnull(f.source, ''), ifnull(f.target, ''), ifnull(f.agreed, '')"
	if f.brief {
		record = "'', '', f.address, f.was, '', f.status, f.reasons, '', iif(f.target IS NULL, '', ' '), ''"
	}
	query := `SELECT f.id, f.type, ` + record + `, f.fields,
		ifnull(d.decision, 'open'), ifnull(d.who, ''), ifnull(d.at, ''), ifnull(d.note, ''), ifnull(d.carried, 0),
			ifnull(d.rule, 0), ifnull(d.seq, 0),
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
		marks, ids := sqlitefile.Marks(f.IDs)
		where, args = append(where, "f.id IN "+marks), append(args, ids...)
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

func scanFinding(row sqlitefile.Row) (Finding, error) {
	var f Finding
	var order []byte
	var reasons, fields string
	err := row.Scan(&f.ID, &f.Type, &order, &f.Key, &f.Address, &f.Was, &f.Title, &f.Status, &reasons, &f.Source, &f.Target,
		&f.Agreed, &fields,
		&f.Decision, &f.DecidedBy, &f.DecidedAt, &f.Note, &f.CarriedFrom, &f.ByRule, &f.Seq, &f.Stopped, &f.Group, &f.Owner,
		&f.Before.Docket, &f.Before.Who)
	if err != nil {
		return f, err
	}
	f.Order, f.Reasons = string(order), []match.Reason{}
	if reasons != "[]" {
		err = json.Unmarshal([]byte(reasons), &f.Reasons)
	}
	return f, errors.Join(err, json.Unmarshal([]byte(fields), &f.Fields))
}

// Checks gives the checks on the whole docket under 0 and the others by finding.
func (of Found) Checks(ctx context.Context) (map[int64][]check.On, error) { return of.checks(ctx, "") }

func (of Found) checks(ctx context.Context, where string, args ...any) (map[int64][]check.On, error) {
	type on struct {
		id int64
		check.On
	}
	out := map[int64][]check.On{}
	for c, err := range sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (c on, err error) {
		var fields, writes string
		if err := row.Scan(&c.id, &c.Code, &c.Level, &c.Message, &c.Mend, &fields, &writes, &c.Partial); err != nil {
			return c, err
		}
		return c, errors.Join(json.Unmarshal([]byte(fields), &c.Fields), json.Unmarshal([]byte(writes), &c.Writes))
	}, "SELECT ifnull(finding, 0), code, level, message, mend, fields, writes, partial FROM checks "+where+" ORDER BY rowid", args...) {
		if err != nil {
			return nil, of.wrap(err)
		}
		out[c.id] = append(out[c.id], c.On)
	}
	return out, nil
}

// Needs streams the needs that new findings of this docket satisfy, by finding; with
// all also those that the target satisfies.
func (of Found) Needs(ctx context.Context, all bool) iter.Seq2[Need, error] {
	return wrapped(of.path, sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (n Need, err error) {
		return n, row.Scan(&n.Holder, &n.Field, &n.Owner, &n.Required, &n.ByName, &n.Type, &n.Key, &n.Address, &n.InTarget,
			&n.Finding, &n.Frees)
	}, `SELECT finding, field, owner, required, by_name, type, key, address, in_target, needed, frees FROM needs
			WHERE ? OR needed <> 0 ORDER BY finding, rowid`, all))
}

// Sides reads the lines of some findings, and why they are what they are.
func (of Found) Sides(ctx context.Context, ids []int64) (map[int64]Finding, error) {
	if len(ids) == 0 {
		return map[int64]Finding{}, nil
	}
	q, done := of.reading()
	defer done()
	marks, args := sqlitefile.Marks(ids)
	out, err := sqlitefile.By(ctx, q, func(f Finding) int64 { return f.ID }, func(row sqlitefile.Row) (f Finding, err error) {
		var order []byte
		var reasons string
		err = row.Scan(&f.ID, &f.Type, &f.Status, &reasons, &f.Address, &f.Key, &order, &f.Source, &f.Target, &f.Agreed)
		if f.Order = string(order); err == nil && reasons != "[]" {
			err = json.Unmarshal([]byte(reasons), &f.Reasons)
		}
		return f, err
	}, "SELECT id, type, status, reasons, address, key, key_order, ifnull(source, ''), ifnull(target, ''), ifnull(agreed, '') FROM findings WHERE id IN "+marks, args...)
	return out, of.wrap(err)
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
func (of Found) Keys(ctx context.Context) iter.Seq2[Keyed, error] {
	return wrapped(of.path, sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (k Keyed, err error) {
		var order []byte
		err = row.Scan(&k.ID, &k.Type, &k.Key, &order, &k.InTarget)
		k.Order = string(order)
		return k, err
	}, "SELECT id, type, key, key_order, target IS NOT NULL FROM findings ORDER BY id"))
}

// wrapped says of an error in a stream which docket it is of.
func wrapped[T any](path string, rows iter.Seq2[T, error]) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for value, err := range rows {
			if !yield(value, wrap(path, err)) {
				return
			}
		}
	}
}
