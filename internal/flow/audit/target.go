package audit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// What the imports of a docket wrote is read in the target, record by record, and held against
// what was approved, field by field. Nothing else tells whether it is so: where both sides are
// equal, they may both hold what nobody approved.

// Otherwise is a record that the target does not hold as it was approved.
type Otherwise struct {
	Address string
	Fields  []FieldNow    // of one that differs
	What    string        // for people
	Change  docket.Change // the last one, as the target tells it; At is "" where it does not
	Later   int           // the docket that wrote it later, 0 for none
}

// FieldNow is a field that does not hold what was approved.
type FieldNow struct {
	Field         string
	Approved, Now *string // nil is null
}

// wrote is what the imports of a docket wrote of a finding.
type wrote struct {
	runs   []int64 // those that did, in their order
	loaded bool    // somebody loaded its load files, or it held already what was approved
}

// writtenBy tells which runs wrote which findings.
func writtenBy(ctx context.Context, d *docket.Docket, runs []run.Run, written map[int64]bool) (map[int64]*wrote, error) {
	out := map[int64]*wrote{}
	for id := range written {
		out[id] = &wrote{}
	}
	for _, one := range runs {
		if one.Kind != run.ImportRun {
			continue
		}
		list, err := run.Outcomes(ctx, d, one.Seq, run.WasWritten)
		if err != nil {
			return nil, err
		}
		for _, o := range list {
			if of := out[o.Finding]; of != nil {
				of.runs = append(of.runs, one.Seq)
			}
		}
	}
	for _, of := range out {
		of.loaded = len(of.runs) == 0
	}
	return out, nil
}

// inTarget reads the target.
func (r *Proof) inTarget(ctx context.Context, s *session.Session, d *docket.Docket, runs []run.Run, written map[int64]bool) error {
	ready, _, err := prepare.Read(ctx, d, standing.Demand{})
	if err != nil {
		return err
	}
	of, err := writtenBy(ctx, d, runs, written)
	if err != nil {
		return err
	}
	env, err := s.Open(ctx, d.Header.Target, true)
	if err != nil {
		return err
	}
	defer env.Close()
	// Keys that the import gave records are theirs by now; a reader finds them by both.
	look := targetLook{proof: r, ready: ready, target: sides.Renamed(env, ready.Names), places: map[place]*Otherwise{}}
	var batch []docket.Finding
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		defer func() { batch = batch[:0] }()
		return look.lot(ctx, batch, of)
	}
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return err
		}
		if !written[f.ID] {
			continue
		}
		f.Source, f.Target, f.Agreed = "", "", "" // read again in lots
		if len(batch) == prepare.ReadBatch || len(batch) > 0 && batch[0].Type != f.Type {
			if err := flush(); err != nil {
				return err
			}
		}
		batch = append(batch, f)
	}
	if err := flush(); err != nil {
		return err
	}
	return r.laterOnes(ctx, s, look.places)
}

// targetLook holds lots of findings against the target.
type targetLook struct {
	proof  *Proof
	ready  prepare.Ready
	target environment.Reader
	places map[place]*Otherwise // what is not as approved
}

// lot looks at some findings of one type.
func (l targetLook) lot(ctx context.Context, findings []docket.Finding, of map[int64]*wrote) error {
	d := l.ready.Docket
	at := slices.IndexFunc(d.Types, func(t docket.Type) bool { return t.Name == findings[0].Type })
	if at < 0 {
		return fmt.Errorf("docket %d has findings of %s and does not describe it", d.Header.Number, findings[0].Type)
	}
	t := d.Types[at]
	fields, before, err := l.fieldsOf(ctx, findings, of)
	if err != nil {
		return err
	}
	batch := make([]*standing.Approval, len(findings))
	for i, f := range findings {
		batch[i] = standing.Wrote(f, t.Fields, fields[f.ID])
	}
	list, err := l.ready.Current(ctx, l.target, t, batch)
	if err != nil {
		return err
	}
	for i, n := range list {
		if err := l.one(t, findings[i], n, before[n.ID]); err != nil {
			return err
		}
	}
	return nil
}

// fieldsOf gives the fields that were written of each finding, and the line of what the last
// import found there.
func (l targetLook) fieldsOf(ctx context.Context, findings []docket.Finding, of map[int64]*wrote) (fields map[int64][]string,
	before map[int64]string, err error) {
	fields, before = map[int64][]string{}, map[int64]string{}
	byRun := map[int64][]int64{}
	for _, f := range findings {
		for _, seq := range of[f.ID].runs {
			byRun[seq] = append(byRun[seq], f.ID)
		}
		if of[f.ID].loaded {
			fields[f.ID] = f.ApprovedFields()
			if f.Adds() {
				for _, field := range f.Fields {
					fields[f.ID] = append(fields[f.ID], field.Field)
				}
			}
		}
	}
	for seq, ids := range byRun {
		images, err := run.Images(ctx, l.ready.Docket, seq, ids)
		if err != nil {
			return nil, nil, err
		}
		for id, image := range images {
			fields[id] = append(fields[id], image.Writes...)
			before[id] = image.Line
		}
	}
	return fields, before, nil
}

// one holds a record against what was approved.
func (l targetLook) one(t docket.Type, f docket.Finding, n prepare.Now, before string) error {
	target := l.ready.Model.Environment
	out := Otherwise{Address: f.Address}
	if len(n.Here) > 0 && n.Here[0].ChangedAt != "" {
		out.Change = docket.Change{Environment: target, At: n.Here[0].ChangedAt, By: n.Here[0].ChangedBy, Zone: l.ready.Model.Here}
	}
	into := &l.proof.Differs
	switch {
	case l.ready.Holds(n, t):
		l.proof.AsApproved++
		return l.beside(t, n, before, out)
	case n.Removes:
		out.What = "it was removed and is there again"
	case len(n.Here) == 0:
		into, out.What = &l.proof.Gone, "it is no longer in "+target
	case len(n.Here) > 1:
		var ids []string
		for _, rec := range n.Here {
			ids = append(ids, rec.ID)
		}
		into, out.What = &l.proof.Twice, fmt.Sprintf("its key stands %d times in %s", len(n.Here), target)
		if ids = slices.DeleteFunc(ids, func(id string) bool { return id == "" }); len(ids) > 0 {
			out.What += " (internal ids " + strings.Join(ids, ", ") + ")"
		}
	default:
		for _, d := range match.Compare(t.Fields, n.Source.Values, n.Here[0].Values, nil) {
			field := t.Fields[d.Field]
			if n.Writes(field.Name) {
				out.Fields = append(out.Fields, FieldNow{field.Name, show.Show(l.ready.Model.Catalog, field, d.Source),
					show.Show(l.ready.Model.Catalog, field, d.Target)})
			}
		}
		var said []string
		for _, field := range out.Fields {
			said = append(said, fmt.Sprintf("%s is %s, and %s was approved", field.Field, show.Readable(field.Now),
				show.Readable(field.Approved)))
		}
		if out.What = strings.Join(said, "; "); len(said) == 0 {
			out.What = "it has another key than was approved"
		}
	}
	*into = append(*into, &out)
	l.places[place{f.Type, f.Order}] = &out
	return nil
}

// beside tells what of a record that is as approved moved in fields that the docket did not write.
func (l targetLook) beside(t docket.Type, n prepare.Now, before string, of Otherwise) error {
	if before == "" || n.Removes || n.Status == match.New {
		return nil
	}
	was, err := record.ParseLine([]byte(before), t.Name, t.Fields, l.ready.Model.Shapes)
	if err != nil {
		return err
	}
	var fields []string
	for _, d := range match.Compare(t.Fields, was.Values, n.Here[0].Values, nil) {
		if name := t.Fields[d.Field].Name; !n.Writes(name) {
			fields = append(fields, name)
		}
	}
	if len(fields) > 0 {
		l.proof.Moved = append(l.proof.Moved, Moved{Address: of.Address, Where: "target", Change: of.Change,
			What: "changed in the target: " + strings.Join(fields, ", ") + ", which the docket did not write"})
	}
	return nil
}

// laterOnes finds which of the records a later docket of the workspace wrote.
func (r *Proof) laterOnes(ctx context.Context, s *session.Session, places map[place]*Otherwise) error {
	if len(places) == 0 {
		return nil
	}
	pasts, err := s.Pasts(ctx)
	if err != nil {
		return err
	}
	for _, p := range pasts {
		if p.Err != nil || p.Header.Number <= r.Header.Number || p.Header.Target != r.Header.Target || p.Header.TargetParcel != "" {
			continue
		}
		d, err := register.Open(ctx, s.Workspace, p.Header.Number)
		if err != nil {
			return err
		}
		err = laterOne(ctx, d, places)
		if closed := d.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func laterOne(ctx context.Context, d *docket.Docket, places map[place]*Otherwise) error {
	written, err := docket.Brought(ctx, d)
	if err != nil || len(written) == 0 {
		return err
	}
	byAddress := map[string]*Otherwise{}
	for _, one := range places {
		byAddress[one.Address] = one
	}
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return err
		}
		if !written[f.ID] {
			continue
		}
		for _, one := range []*Otherwise{places[place{f.Type, f.Order}], byAddress[f.Was]} { // it may have got another key
			if one != nil {
				one.Later = d.Header.Number
			}
		}
	}
	return nil
}
