package importing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/pairing"
	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// Why an approved record was left out, beside the codes of checks.
const (
	MovedSinceMatch = "moved-since-match"
	DependsOnLeft   = "depends-on-left-out"
	Refused         = "refused"
	ReadBackDiffers = "read-back-differs"
)

// ImportResult says what was written.
type Result struct {
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
	// Forgotten is why it could not be remembered that both sides agree now.
	Forgotten error
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
	session  *session.Session
	docket   *docket.Docket
	standing standing.Standing
	model    *environment.Model
	work     environment.Work
	names    *pairing.Names // nil where no record has another key in the target
	run      int64
	ranks    map[string]int

	left    map[int64]*LeftOut
	already map[int64]bool
	result  Result
}

func newImporting(s *session.Session, d *docket.Docket) (*importing, error) {
	im := &importing{
		session: s, docket: d, left: map[int64]*LeftOut{}, already: map[int64]bool{}, ranks: map[string]int{},
		model:  &environment.Model{Environment: d.Header.Target, Catalog: d.Catalog, Shapes: d.Header.Keys},
		result: Result{Header: d.Header},
	}
	for i, t := range d.Types {
		im.ranks[t.Name] = i
	}
	var err error
	im.names, err = sides.PairsOf(d)
	return im, err
}

// finish completes the result.
func (im *importing) finish(start time.Time) {
	im.result.Seconds = time.Since(start).Seconds()
	for _, a := range im.standing.Approved {
		if left := im.left[a.Id]; left != nil {
			im.result.LeftOut = append(im.result.LeftOut, *left)
		}
	}
}

// Import writes what is approved in a docket into its target, in one transaction; a
// rehearsal does the same and takes it back.
func Import(ctx context.Context, s *session.Session, d *docket.Docket, rehearse bool) (Result, error) {
	start := time.Now()
	im, err := newImporting(s, d)
	if err != nil {
		return im.result, err
	}
	err = im.carryOut(ctx, rehearse)
	im.finish(start)
	return im.result, err
}

// prepare meets every guard that needs no target. It is not ready where nothing is left
// to be written; the outcome says so, idle being that of a docket without approvals.
func (im *importing) prepare(ctx context.Context, idle string) (ready bool, err error) {
	d := im.docket
	if d.Header.TargetParcel != "" {
		return false, session.Usage("Docket %d compares two parcels; there is no environment to import into. Match with an environment first", d.Header.Number)
	}
	if err := im.verifyParcel(ctx); err != nil {
		im.result.Outcome = docket.Blocked
		return false, err
	}
	static, err := d.Checks(ctx)
	if err != nil {
		return false, err
	}
	var whole []check.Check
	for _, c := range static[0] {
		if c.Level == check.Blocker {
			whole = append(whole, c.Check)
		}
	}
	if len(whole) > 0 {
		im.result.Outcome = docket.Blocked
		return false, &session.BlockedError{Docket: d.Header.Number, Checks: whole}
	}
	if im.standing, err = standing.Read(ctx, d); err != nil {
		return false, err
	}
	if im.result.Open, err = countOpen(ctx, d); err != nil {
		return false, err
	}
	runs, err := d.Runs(ctx)
	if err != nil {
		return false, err
	}
	for _, run := range runs {
		im.result.Earlier = im.result.Earlier || run.Kind == docket.ImportRun && run.EndedAt == ""
	}
	for id, checks := range im.standing.Blocked {
		message := checks[0].Message + " " + checks[0].Mend
		if len(checks) > 1 {
			message += fmt.Sprintf(" %s more: see the review.", english.Plural(len(checks)-1, "blocker", "blockers"))
		}
		im.left[id] = &LeftOut{Why: string(checks[0].Code), Message: message, finding: id}
	}
	im.name()
	if len(im.left) < len(im.standing.Approved) {
		return true, nil
	}
	if im.result.Outcome = idle; len(im.left) > 0 {
		im.result.Outcome = docket.Blocked
	}
	return false, nil
}

func (im *importing) carryOut(ctx context.Context, rehearse bool) error {
	s, d := im.session, im.docket
	idle := docket.Imported
	if rehearse {
		idle = docket.Rehearsed
	}
	ready, err := im.prepare(ctx, idle)
	if err != nil || !ready {
		return err
	}
	env, err := s.Open(ctx, d.Header.Target, false)
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
	im.work = sides.PairedInto(im.work, im.names)
	defer func() { _ = im.work.Rollback() }()
	if im.run, err = d.StartRun(ctx, kind, s.Who, s.Now()); err != nil {
		return err
	}
	err = im.inTransaction(ctx)
	if err == nil && len(im.result.Failures) == 0 {
		if rehearse {
			im.result.Outcome = docket.Rehearsed
			err = im.work.Rollback()
		} else {
			im.result.Outcome = docket.Imported
			if err = im.work.Commit(ctx); err == nil {
				// What was imported stays imported, whatever becomes of this.
				im.result.Forgotten = im.rememberImport(context.WithoutCancel(ctx))
			}
		}
	}
	switch {
	case err != nil && ctx.Err() != nil:
		im.result.Outcome, err = docket.Interrupted, ctx.Err()
	case err != nil || len(im.result.Failures) > 0:
		im.result.Outcome = docket.Failed
	}
	if im.result.Outcome == docket.Failed || im.result.Outcome == docket.Interrupted {
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
		return &session.BlockedError{Docket: h.Number, Checks: []check.Check{{Code: check.BrokenSeal, Level: check.Blocker,
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
	for _, a := range im.standing.Approved {
		if !slices.Contains(types, a.Typ) {
			types = append(types, a.Typ)
		}
	}
	for _, typ := range types {
		t, _ := im.docket.Catalog.Type(typ)
		place := about.Places[t.Place(im.docket.Header.Target)]
		if place.NoRollback || place.ReadOnly {
			why := "cannot take back what was written (its table has no transactions), so an import could not be all or nothing"
			if place.ReadOnly {
				why = "is a view, which is only read"
			}
			return session.Usage("%s of %s %s. Decline the findings of %s, or keep it elsewhere", place.Name, im.docket.Header.Target, why, typ)
		}
	}
	target := session.Described{Environment: env, About: about, Fit: im.docket.Catalog.Fits(im.docket.Header.Target, about.Places)}
	if problems := target.Problems(im.docket.Catalog, types); len(problems) > 0 {
		return &session.CatalogError{Catalog: "the catalog in docket " + fmt.Sprint(im.docket.Header.Number), Environment: im.docket.Header.Target, Problems: problems}
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

// standAgain reads the target again and gives what is still to be written, in order.
func (im *importing) standAgain(ctx context.Context) ([]sequence.Write, error) {
	if err := im.readAgain(ctx); err != nil {
		return nil, err
	}
	if err := im.checkReferences(ctx); err != nil {
		return nil, err
	}
	im.leaveOutDependents()
	return im.sequence()
}

// inTransaction does everything between lock and commit.
func (im *importing) inTransaction(ctx context.Context) error {
	writes, err := im.standAgain(ctx)
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

func (im *importing) leave(a *standing.Approval, why, message string) {
	im.left[a.Id] = &LeftOut{Address: a.Address, Why: why, Message: message, finding: a.Id}
}

// name gives the addresses of those left out before anything was read.
func (im *importing) name() {
	for _, a := range im.standing.Approved {
		if left := im.left[a.Id]; left != nil {
			left.Address = a.Address
		}
	}
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
	for _, a := range im.standing.Approved {
		o := docket.Outcome{Finding: a.Id, Outcome: "written"}
		left := im.left[a.Id]
		switch {
		case left != nil:
			o.Outcome, o.Why, o.Message = "left-out", left.Why, left.Message
		case im.already[a.Id]:
			o.Outcome = "already"
		case im.result.Outcome != docket.Imported:
			continue
		}
		outcomes = append(outcomes, o)
	}
	im.result.Already = len(im.already)
	return im.docket.EndRun(ctx, run, im.session.Now(), outcomes)
}
