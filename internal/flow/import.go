package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// Outcomes of an import.
const (
	Imported    = "imported"
	Rehearsed   = "rehearsed"
	Blocked     = "blocked"
	Interrupted = "interrupted"
	Failed      = "failed"
)

// Why an approved record was left out, beside the codes of checks.
const (
	MovedSinceMatch = "moved-since-match"
	DependsOnLeft   = "depends-on-left-out"
	Refused         = "refused"
	ReadBackDiffers = "read-back-differs"
)

// ImportResult says what was written.
type ImportResult struct {
	Header   docket.Header
	Outcome  string
	New      int
	Changed  int
	Already  int // approved records that held the approved values before
	LeftOut  []LeftOut
	Failures []LeftOut // why nothing was written, of a failed import
	Verified bool
	Backup   int  // before-images in the docket
	Earlier  bool // an earlier import of this docket was interrupted
	Seconds  float64
	Open     int // findings that still ask for a decision
}

// LeftOut is an approved record that was not written.
type LeftOut struct {
	Address string `json:"address"`
	Why     string `json:"why"`
	Message string `json:"message"`
	finding int64
}

// Batches of records that are read, looked up and written at a time.
const importBatch = 500

// importing is one import at work.
type importing struct {
	session  *Session
	docket   *docket.Docket
	standing standing
	model    *environment.Model
	work     environment.Work
	run      int64
	ranks    map[string]int

	left    map[int64]*LeftOut
	already map[int64]bool
	result  ImportResult
}

// Import writes what is approved in a docket into its target, in one transaction; a
// rehearsal does the same and takes it back.
func (s *Session) Import(ctx context.Context, d *docket.Docket, rehearse bool) (ImportResult, error) {
	start := time.Now()
	im := &importing{
		session: s, docket: d, left: map[int64]*LeftOut{}, already: map[int64]bool{}, ranks: map[string]int{},
		model:  &environment.Model{Environment: d.Header.Target, Catalog: d.Catalog, Shapes: d.Header.Keys},
		result: ImportResult{Header: d.Header},
	}
	for i, t := range d.Types {
		im.ranks[t.Name] = i
	}
	err := im.carryOut(ctx, rehearse)
	im.result.Seconds = time.Since(start).Seconds()
	for _, a := range im.standing.approved {
		if left := im.left[a.id]; left != nil {
			im.result.LeftOut = append(im.result.LeftOut, *left)
		}
	}
	return im.result, err
}

func (im *importing) carryOut(ctx context.Context, rehearse bool) error {
	s, d := im.session, im.docket
	if err := im.verifyParcel(ctx); err != nil {
		im.result.Outcome = Blocked
		return err
	}
	var err error
	if im.standing, err = readStanding(ctx, d); err != nil {
		return err
	}
	if im.result.Open, err = countOpen(ctx, d); err != nil {
		return err
	}
	runs, err := d.Runs(ctx)
	if err != nil {
		return err
	}
	for _, run := range runs {
		im.result.Earlier = im.result.Earlier || run.Kind == docket.ImportRun && run.EndedAt == ""
	}
	for id, checks := range im.standing.blocked {
		im.left[id] = &LeftOut{Why: string(checks[0].Code), Message: checks[0].Message + " " + checks[0].Mend, finding: id}
	}
	im.name()
	if len(im.left) == len(im.standing.approved) {
		if len(im.left) > 0 {
			im.result.Outcome = Blocked
		} else {
			im.result.Outcome = Imported
			if rehearse {
				im.result.Outcome = Rehearsed
			}
		}
		return nil
	}
	env, err := s.open(ctx, d.Header.Target, false)
	if err != nil {
		return err
	}
	defer env.Close()
	if err := im.fits(ctx, env); err != nil {
		return err
	}
	kind := docket.ImportRun
	if rehearse {
		kind = docket.RehearsalRun
	}
	if im.work, err = env.Begin(ctx); err != nil {
		return err
	}
	defer func() { _ = im.work.Rollback() }()
	if im.run, err = d.StartRun(ctx, kind, s.Who, s.Now()); err != nil {
		return err
	}
	err = im.inTransaction(ctx)
	if err == nil && len(im.result.Failures) == 0 {
		if rehearse {
			im.result.Outcome = Rehearsed
			err = im.work.Rollback()
		} else {
			im.result.Outcome = Imported
			err = im.work.Commit(ctx)
		}
	}
	switch {
	case err != nil && ctx.Err() != nil:
		im.result.Outcome, err = Interrupted, ctx.Err()
	case err != nil || len(im.result.Failures) > 0:
		im.result.Outcome = Failed
	}
	if im.result.Outcome == Failed || im.result.Outcome == Interrupted {
		im.result.New, im.result.Changed, im.result.Verified = 0, 0, false
		_ = im.work.Rollback()
	}
	// The outcome is kept even where the person pressed Ctrl-C.
	return errors.Join(err, im.end(context.WithoutCancel(ctx), err))
}

// verifyParcel refuses a docket whose parcel is no longer what was matched. A parcel
// that is not at hand is no obstacle: the docket is complete in itself.
func (im *importing) verifyParcel(ctx context.Context) error {
	h := im.docket.Header
	if !parcel.Exists(h.ParcelFile) {
		return nil
	}
	blocked := func(message string) error {
		return &BlockedError{Docket: h.Number, Checks: []check.Check{{Code: check.BrokenSeal, Level: check.Blocker,
			Message: message, Mend: "Bring the parcel back as it was, or export and match again."}}}
	}
	p, err := parcel.Open(h.ParcelFile)
	if err != nil {
		return blocked(strings.TrimSuffix(err.Error(), ".") + ".")
	}
	defer p.Close()
	im.session.Progress.Start("verifying the parcel", 0)
	err = p.Verify(ctx)
	im.session.Progress.Done()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return blocked(strings.TrimSuffix(err.Error(), ".") + ".")
	}
	if p.Manifest.Seal != h.ParcelSeal {
		return blocked(fmt.Sprintf("%s is not the parcel that docket %d was matched with.", h.ParcelFile, h.Number))
	}
	return nil
}

// fits refuses a target in which the catalog of the docket no longer holds.
func (im *importing) fits(ctx context.Context, env environment.Environment) error {
	about, err := env.Describe(ctx)
	if err != nil {
		return err
	}
	var types []string
	for _, a := range im.standing.approved {
		if !slices.Contains(types, a.typ) {
			types = append(types, a.typ)
		}
	}
	target := described{Environment: env, about: about, fit: im.docket.Catalog.Fits(im.docket.Header.Target, about.Places)}
	if problems := target.problems(im.docket.Catalog, types); len(problems) > 0 {
		return &CatalogError{Catalog: "the catalog in docket " + fmt.Sprint(im.docket.Header.Number), Environment: im.docket.Header.Target, Problems: problems}
	}
	return nil
}

func countOpen(ctx context.Context, d *docket.Docket) (int, error) {
	open := 0
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New}}) {
		if err != nil {
			return 0, err
		}
		if f.Decision == docket.Undecided && !f.IsApproved() {
			open++
		}
	}
	return open, nil
}

// inTransaction does everything between lock and commit.
func (im *importing) inTransaction(ctx context.Context) error {
	if err := im.readAgain(ctx); err != nil {
		return err
	}
	if err := im.checkReferences(ctx); err != nil {
		return err
	}
	im.leaveOutDependents()
	writes, err := im.sequence()
	if err != nil {
		return err
	}
	if err := im.write(ctx, writes); err != nil {
		return err
	}
	if len(im.result.Failures) > 0 {
		return nil
	}
	if err := im.readBack(ctx); err != nil {
		return err
	}
	im.result.Verified = len(im.result.Failures) == 0
	return ctx.Err()
}

// pending gives the approvals that are still to be written, by type and in batches.
func (im *importing) pending(give func(typ docket.Type, batch []*approval) error) error {
	var batch []*approval
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		t, _ := im.docket.Type(batch[0].typ)
		err := give(t, batch)
		batch = nil
		return err
	}
	for _, a := range im.standing.approved {
		if im.left[a.id] != nil || im.already[a.id] {
			continue
		}
		if len(batch) == importBatch || len(batch) > 0 && batch[0].typ != a.typ {
			if err := flush(); err != nil {
				return err
			}
		}
		batch = append(batch, a)
	}
	return flush()
}

// current reads the records of some approvals as they are in the target now, with the
// lines that the docket holds of them.
func (im *importing) current(ctx context.Context, t docket.Type, batch []*approval) (map[string][]record.Record, map[int64]docket.Finding, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.id
	}
	lines, err := im.docket.Lines(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	keys := make([]record.Key, len(batch))
	for i, a := range batch {
		if keys[i], err = im.model.Shapes.ParseKey([]byte(lines[a.id].Key), t.Name); err != nil {
			return nil, nil, err
		}
	}
	now := map[string][]record.Record{}
	for rec, err := range im.work.Read(ctx, im.model, environment.Reading{Type: t.Name, Fields: t.Fields, Keys: keys}) {
		if err != nil {
			return nil, nil, err
		}
		now[rec.Key.Order()] = append(now[rec.Key.Order()], rec)
	}
	return now, lines, nil
}

// readAgain compares the touched records with what they were when matched, leaves out
// those that moved, and keeps the before-images of the others.
func (im *importing) readAgain(ctx context.Context) error {
	total := len(im.standing.approved) - len(im.left)
	im.session.Progress.Start("reading the target again", total)
	defer im.session.Progress.Done()
	return im.pending(func(t docket.Type, batch []*approval) error {
		now, lines, err := im.current(ctx, t, batch)
		if err != nil {
			return err
		}
		var images []docket.Image
		for _, a := range batch {
			here := now[lines[a.id].Order]
			source, err := record.ParseLine([]byte(lines[a.id].Source), t.Name, t.Fields, im.model.Shapes)
			if err != nil {
				return err
			}
			moved, already, err := im.compare(a, t, here, source, lines[a.id])
			switch {
			case err != nil:
				return err
			case already:
				im.already[a.id] = true
			case moved != "":
				im.leave(a, MovedSinceMatch, fmt.Sprintf("%s was not imported: %s. Match again to see it as it is now.", a.address, moved))
			default:
				image := docket.Image{Finding: a.id}
				if len(here) == 1 {
					image.Line, image.Values = string(record.AppendLine(nil, t.Fields, here[0])), here[0].Values
				}
				images = append(images, image)
			}
		}
		im.result.Backup += len(images)
		im.session.Progress.Add(len(batch))
		return im.docket.SaveBackup(ctx, im.run, images)
	})
}

// compare says how a record moved since it was matched, or that it already holds the
// approved values.
func (im *importing) compare(a *approval, t docket.Type, here []record.Record, source record.Record, line docket.Finding) (moved string, already bool, err error) {
	target := im.docket.Header.Target
	switch {
	case len(here) > 1:
		return fmt.Sprintf("its key now occurs %d times in %s", len(here), target), false, nil
	case len(here) == 0 && a.status == match.New:
		return "", false, nil
	case len(here) == 0:
		return "it is no longer in " + target, false, nil
	}
	fromSource := match.Compare(t.Fields, source.Values, here[0].Values, nil)
	approvedDiffer := slices.ContainsFunc(fromSource, func(d match.Difference) bool { return a.writes(t.Fields[d.Field].Name) })
	if a.status == match.New {
		if !approvedDiffer {
			return "", true, nil
		}
		return fmt.Sprintf("it was not in %s when it was matched and is there now", target), false, nil
	}
	was, err := record.ParseLine([]byte(line.Target), t.Name, t.Fields, im.model.Shapes)
	if err != nil {
		return "", false, err
	}
	since := match.Compare(t.Fields, was.Values, here[0].Values, nil)
	if len(since) == 0 {
		return "", false, nil
	}
	// An import that was interrupted after it was complete leaves exactly this: every
	// difference is an approved field that holds the approved value.
	if !approvedDiffer && !slices.ContainsFunc(since, func(d match.Difference) bool { return !a.writes(t.Fields[d.Field].Name) }) {
		return "", true, nil
	}
	var what []string
	for _, d := range since {
		field := t.Fields[d.Field]
		what = append(what, fmt.Sprintf("%s was %s and is %s", field.Name, Readable(Show(im.model.Catalog, field, d.Source)), Readable(Show(im.model.Catalog, field, d.Target))))
	}
	return fmt.Sprintf("it changed in %s since it was matched (%s)", target, strings.Join(what, "; ")), false, nil
}

func (im *importing) leave(a *approval, why, message string) {
	im.left[a.id] = &LeftOut{Address: a.address, Why: why, Message: message, finding: a.id}
}

// name gives the addresses of those left out before anything was read.
func (im *importing) name() {
	for _, a := range im.standing.approved {
		if left := im.left[a.id]; left != nil {
			left.Address = a.address
		}
	}
}

// checkReferences leaves out records that refer to something the target had when it
// was matched and no longer has.
func (im *importing) checkReferences(ctx context.Context) error {
	pending := map[int64]*approval{}
	for _, a := range im.standing.approved {
		if im.left[a.id] == nil && !im.already[a.id] {
			pending[a.id] = a
		}
	}
	byType := map[string][]docket.Need{}
	check := func(typ string) error {
		needs := byType[typ]
		delete(byType, typ)
		keys := make([]record.Key, len(needs))
		for i, n := range needs {
			var err error
			if keys[i], err = im.model.Shapes.ParseKey([]byte(n.Key), typ); err != nil {
				return err
			}
		}
		counts, err := im.work.Locate(ctx, im.model, typ, keys)
		if err != nil {
			return err
		}
		for i, n := range needs {
			if a := pending[n.Holder]; counts[i] != 1 && im.left[a.id] == nil {
				im.leave(a, MovedSinceMatch, fmt.Sprintf("%s was not imported: it refers to %s (field %s), which was in %s when it was matched and is no longer there. Match again to see it as it is now.",
					a.address, n.Address, n.Field, im.docket.Header.Target))
			}
		}
		return nil
	}
	for n, err := range im.docket.Needs(ctx, true) {
		if err != nil {
			return err
		}
		a := pending[n.Holder]
		if a == nil || n.InTarget != 1 || !a.writes(n.Field) {
			continue
		}
		byType[n.Type] = append(byType[n.Type], n)
		if len(byType[n.Type]) == importBatch {
			if err := check(n.Type); err != nil {
				return err
			}
		}
	}
	for typ := range byType {
		if err := check(typ); err != nil {
			return err
		}
	}
	return nil
}

// leaveOutDependents leaves out what depends on a new record that was left out.
func (im *importing) leaveOutDependents() {
	byID := map[int64]*approval{}
	var candidates []check.Candidate
	for _, a := range im.standing.approved {
		byID[a.id] = a
		if im.already[a.id] {
			continue
		}
		c := check.Candidate{ID: a.id}
		if im.left[a.id] != nil {
			c.Blocked = im.left[a.id].Why
		}
		for _, n := range a.needs {
			if n.Finding != 0 && !im.already[n.Finding] {
				c.Needs = append(c.Needs, n.Finding)
			}
		}
		candidates = append(candidates, c)
	}
	for id, because := range check.Standing(candidates) {
		a, needed := byID[id], byID[because]
		if im.left[id] == nil && needed != nil {
			im.leave(a, DependsOnLeft, fmt.Sprintf("%s was not imported: it needs %s, which was left out itself.", a.address, needed.address))
		}
	}
}

// sequence puts what is left into writing order.
func (im *importing) sequence() ([]sequence.Write, error) {
	var nodes []sequence.Node
	addresses := map[int64]string{}
	for _, a := range im.standing.approved {
		if im.left[a.id] != nil || im.already[a.id] {
			continue
		}
		addresses[a.id] = a.address
		node := sequence.Node{ID: a.id, Rank: im.ranks[a.typ], New: a.status == match.New}
		for _, n := range a.needs {
			if n.Finding != 0 {
				node.Needs = append(node.Needs, sequence.Edge{To: n.Finding, Field: n.Field, Required: n.Required})
			}
		}
		nodes = append(nodes, node)
	}
	writes, err := sequence.Order(nodes)
	var circle *sequence.Circle
	if errors.As(err, &circle) {
		var names []string
		for _, id := range circle.IDs[:min(len(circle.IDs), 10)] {
			names = append(names, addresses[id])
		}
		return nil, fmt.Errorf("%w: %s. Create one of them in %s without the reference, then match again", err, strings.Join(names, ", "), im.docket.Header.Target)
	}
	return writes, err
}

// write carries out the writes. Records that the target refuses are collected, so
// that all of them can be named at once; then nothing is written at all.
func (im *importing) write(ctx context.Context, writes []sequence.Write) error {
	byID := map[int64]*approval{}
	for _, a := range im.standing.approved {
		byID[a.id] = a
	}
	im.session.Progress.Start("writing", len(writes))
	defer im.session.Progress.Done()
	failed := map[int64]bool{}
	const maxFailures = 20
	for batch := range slices.Chunk(writes, importBatch) {
		ids := make([]int64, len(batch))
		for i, w := range batch {
			ids[i] = w.ID
		}
		lines, err := im.docket.Lines(ctx, ids)
		if err != nil {
			return err
		}
		for _, w := range batch {
			a := byID[w.ID]
			if failed[a.id] || slices.ContainsFunc(a.needs, func(n docket.Need) bool { return failed[n.Finding] }) {
				failed[a.id] = true
				continue
			}
			change, err := im.change(a, w, lines[w.ID])
			if err != nil {
				return err
			}
			err = im.work.Write(ctx, im.model, change)
			var refused *environment.RecordError
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case errors.As(err, &refused):
				failed[a.id] = true
				im.fail(a, Refused, err.Error())
				if len(im.result.Failures) == maxFailures {
					return nil
				}
			case err != nil:
				return err
			case len(w.Only) > 0: // the second pass over a new record
			case change.Insert:
				im.result.New++
			default:
				im.result.Changed++
			}
			im.session.Progress.Add(1)
		}
	}
	return nil
}

func (im *importing) fail(a *approval, why, message string) {
	im.result.Failures = append(im.result.Failures, LeftOut{Address: a.address, Why: why, Message: message, finding: a.id})
}

// change makes the write of one record: only approved fields, and for a new record
// the values that belong to the target alone.
func (im *importing) change(a *approval, w sequence.Write, line docket.Finding) (environment.Change, error) {
	t, _ := im.docket.Type(a.typ)
	source, err := record.ParseLine([]byte(line.Source), t.Name, t.Fields, im.model.Shapes)
	if err != nil {
		return environment.Change{}, err
	}
	c := environment.Change{Type: a.typ, Key: source.Key, Insert: a.status == match.New && len(w.Only) == 0}
	for i, field := range t.Fields {
		v := source.Values[i]
		if v.IsAbsent() || !a.writes(field.Name) || slices.Contains(w.Without, field.Name) || len(w.Only) > 0 && !slices.Contains(w.Only, field.Name) {
			continue
		}
		if v, err = im.docket.WithContent(v); err != nil {
			return c, err
		}
		c.Fields, c.Values = append(c.Fields, field), append(c.Values, v)
	}
	if c.Insert {
		typ, _ := im.docket.Catalog.Type(a.typ)
		c.Fixed = fixedFor(typ, im.docket.Header.Target)
	}
	return c, nil
}

// fixedFor gives the values of local fields that are configured for an environment.
func fixedFor(t *catalog.Type, environment string) map[string]string {
	out := map[string]string{}
	for field, values := range t.Local {
		if value, ok := values[environment]; ok {
			out[field] = value
		}
	}
	return out
}

// readBack reads what was written and compares it with what was approved.
func (im *importing) readBack(ctx context.Context) error {
	im.session.Progress.Start("reading back", im.result.New+im.result.Changed)
	defer im.session.Progress.Done()
	return im.pending(func(t docket.Type, batch []*approval) error {
		now, lines, err := im.current(ctx, t, batch)
		if err != nil {
			return err
		}
		for _, a := range batch {
			here := now[lines[a.id].Order]
			if len(here) != 1 {
				im.fail(a, ReadBackDiffers, fmt.Sprintf("%s was written, but reading it back gives %d records with its key; something in %s changes what is written.", a.address, len(here), im.docket.Header.Target))
				continue
			}
			source, err := record.ParseLine([]byte(lines[a.id].Source), t.Name, t.Fields, im.model.Shapes)
			if err != nil {
				return err
			}
			for _, d := range match.Compare(t.Fields, source.Values, here[0].Values, nil) {
				field := t.Fields[d.Field]
				if !a.writes(field.Name) {
					continue
				}
				im.fail(a, ReadBackDiffers, fmt.Sprintf("%s: %s was written into field %s and reads back as %s; something in %s changes what is written.",
					a.address, Readable(Show(im.model.Catalog, field, d.Source)), field.Name, Readable(Show(im.model.Catalog, field, d.Target)), im.docket.Header.Target))
				break
			}
		}
		im.session.Progress.Add(len(batch))
		return nil
	})
}

// end records the outcome of the run.
func (im *importing) end(ctx context.Context, cause error) error {
	run := docket.Run{Seq: im.run, Outcome: im.result.Outcome, New: im.result.New, Changed: im.result.Changed, LeftOut: len(im.left)}
	if cause != nil {
		run.Message = cause.Error()
	}
	if len(im.result.Failures) > 0 {
		run.Message = im.result.Failures[0].Message
	}
	var outcomes []docket.Outcome
	for _, a := range im.standing.approved {
		o := docket.Outcome{Finding: a.id, Outcome: "written"}
		left := im.left[a.id]
		switch {
		case left != nil:
			o.Outcome, o.Why, o.Message = "left-out", left.Why, left.Message
		case im.already[a.id]:
			o.Outcome = "already"
		case im.result.Outcome != Imported:
			continue
		}
		outcomes = append(outcomes, o)
	}
	im.result.Already = len(im.already)
	return im.docket.EndRun(ctx, run, im.session.Now(), outcomes)
}
