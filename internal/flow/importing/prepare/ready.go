package prepare

import (
	"context"
	"fmt"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/pairing"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
	"anagram/internal/store/register"
	"anagram/internal/store/workspace"
)

// Ready is a docket whose approvals can be written as far as it can tell by itself.
type Ready struct {
	Docket    *docket.Docket
	Standing  standing.Standing
	Model     *environment.Model
	Names     *pairing.Names // nil where no record has another key in the target
	Open      int            // findings that still ask for a decision
	Undecided int            // those of them that a decision would bring on
	Earlier   bool           // an earlier import of this docket was interrupted
	Run       int64          // the run that keeps before-images, 0 before it began
	// Places are the target's, and Beside the columns of each type that are in no field that
	// was compared, but are looked at to see that nobody alters them.
	Places map[string]catalog.Place
	Beside map[string][]string
	Who    string // who imports, for stamps
	// ids are, by type, how who imports stands in stamps that hold ids of people; signs is false
	// where the target stamps by itself.
	ids   map[string]string
	signs bool
	// Checked says that each record is only written while it is as it was read again, as there
	// is no transaction.
	Checked bool
	Numbers bool        // the target does not give numbers again that were taken back
	Fit     catalog.Fit // the docket's catalog seen against the target
	// used tells of findings that an import of the docket wrote how many decisions there were then.
	used map[int64]int64
	// Judge tries values against the target's rules within the transaction; nil where it cannot,
	// or where what the target refuses leaves the rest alone.
	Judge environment.Judge
}

// In gives what is ready with what the target tells of its places.
func (r Ready) In(places map[string]catalog.Place) Ready {
	r.Places, r.Beside = places, map[string][]string{}
	for _, t := range r.Docket.Types {
		if typ, ok := r.Model.Catalog.Type(t.Name); ok {
			r.Beside[t.Name] = typ.BesideOf(places[typ.Place(r.Model.Environment)], t.Fields)
		}
	}
	return r
}

// Read gives the approvals of a docket, without asking whether they may be written; the
// rest is what its own checks stop.
func Read(ctx context.Context, d *docket.Docket, demand standing.Demand) (Ready, Rest, error) {
	r := Ready{Docket: d, Model: &environment.Model{Environment: d.Header.Target, Catalog: d.Catalog, Shapes: d.Header.Keys,
		Here: Zone(d.Header.Zones[d.Header.Target]), There: Zone(d.Header.Zones[d.Header.Source])}}
	rest := NewRest()
	var err error
	if r.Names, err = sides.PairsOf(d); err != nil {
		return r, rest, err
	}
	if r.Standing, err = standing.Read(ctx, d, demand); err != nil {
		return r, rest, err
	}
	for _, a := range r.Standing.Approved {
		checks := r.Standing.Blocked[a.ID]
		if len(checks) == 0 {
			continue
		}
		message := checks[0].Message + " " + checks[0].Mend
		if len(checks) > 1 {
			message += fmt.Sprintf(" %s more: see the review.", show.Count(len(checks)-1, "blocker", ""))
		}
		rest.Leave(a, string(checks[0].Code), message)
	}
	return r, rest, nil
}

// Zone gives the zone of a name that the workspace knew, nil for none.
func Zone(name string) *time.Location {
	if found, err := time.LoadLocation(name); name != "" && err == nil {
		return found
	}
	return nil
}

// Prepare meets every guard that needs no target, and gives what is approved. What its
// checks stop is in the rest.
func Prepare(ctx context.Context, s *session.Session, d *docket.Docket) (Ready, Rest, error) {
	if d.Header.TargetParcel != "" {
		return Ready{}, Rest{},
			session.Usage("Docket %d compares two parcels; there is no environment to import into. Match with an environment first", d.Header.Number)
	}
	target, err := s.Workspace.Environment(d.Header.Target)
	if err != nil {
		return Ready{}, Rest{}, err
	}
	if target.NoImports {
		return Ready{}, Rest{}, &session.BlockedError{Docket: d.Header.Number, Checks: []check.Check{check.NoImports(target.Name)}}
	}
	if err := describedAsNow(s, d); err != nil {
		return Ready{}, Rest{}, err
	}
	if err := verifyParcel(ctx, s, d.Header); err != nil {
		return Ready{}, Rest{}, err
	}
	static, err := d.Found.Checks(ctx)
	if err != nil {
		return Ready{}, Rest{}, err
	}
	var whole []check.Check
	for _, c := range static[0] {
		// Releases and settings are compared again, as the workspace and both sides are now.
		if c.Level == check.Blocker && c.Code != check.Release && c.Code != check.MustAgree {
			whole = append(whole, c.Check)
		}
	}
	if len(whole) > 0 {
		return Ready{}, Rest{}, &session.BlockedError{Docket: d.Header.Number, Checks: whole}
	}
	demand, err := standing.Demanded(s, d)
	if err != nil {
		return Ready{}, Rest{}, err
	}
	r, rest, err := Read(ctx, d, demand)
	if err != nil {
		return r, rest, err
	}
	r.Who = s.Who
	r.Open, r.Undecided = r.Standing.Tally.Open, r.Standing.Tally.Open-r.Standing.Tally.Stuck
	if r.used, err = run.Used(ctx, d); err != nil {
		return r, rest, err
	}
	if err := decidedLater(ctx, s, r, rest); err != nil {
		return r, rest, err
	}
	runs, err := run.List(ctx, d)
	for _, one := range runs {
		if one.Kind == run.ImportRun { // the last one counts
			r.Earlier = one.EndedAt == "" || one.Unsettled()
		}
	}
	return r, rest, err
}

// Known refuses a docket that this workspace did not make, or a copy of one.
func Known(s *session.Session, d *docket.Docket) error {
	if err := register.Known(s.Workspace, d); err != nil {
		return session.Usage("%v", err)
	}
	return nil
}

// describedAsNow refuses a docket whose record types the workspace describes otherwise now:
// places, keys and local values are the workspace's.
func describedAsNow(s *session.Session, d *docket.Docket) error {
	now, err := s.Workspace.Catalog()
	if err != nil {
		return err
	}
	for _, t := range d.Types {
		was, _ := d.Catalog.Type(t.Name)
		is, ok := now.Type(t.Name)
		if !ok || !is.SameAs(was) {
			return &session.BlockedError{Docket: d.Header.Number,
				Checks: []check.Check{check.Otherwise(s.Workspace.CatalogName()+" describes "+t.Name+" otherwise", d.Header.Number,
					d.Header.AgainInside())}}
		}
	}
	var around docket.Around
	if d.Header.Around != nil {
		around = *d.Header.Around
	}
	if e, err := s.Workspace.Environment(d.Header.Target); err == nil && !e.Around.Same(workspace.Around(around)) {
		return &session.BlockedError{Docket: d.Header.Number,
			Checks: []check.Check{check.Otherwise("anagram.yaml says otherwise under around_import: of "+d.Header.Target,
				d.Header.Number, d.Header.AgainInside())}}
	}
	for _, name := range []string{d.Header.Source, d.Header.Target} {
		zone, of := "", name
		if name == d.Header.Source && d.Header.Then != "" {
			of = d.Header.Then
		}
		if now := s.Zone(of); now != nil {
			zone = now.String()
		}
		if zone != d.Header.Zones[name] && (d.Header.Restores == 0 || name == d.Header.Target) {
			return &session.BlockedError{Docket: d.Header.Number,
				Checks: []check.Check{check.Otherwise("anagram.yaml says another zone for "+of, d.Header.Number,
					d.Header.AgainInside())}}
		}
	}
	return nil
}

// NothingLeft reports whether no approval is going to be written, and the outcome then:
// that of a docket without approvals is idle.
func (r Ready) NothingLeft(rest Rest, idle string) (outcome string, nothing bool) {
	if len(rest.Left) < len(r.Standing.Approved) {
		return "", false
	}
	if len(rest.Left) > 0 {
		return run.Blocked, true
	}
	return idle, true
}

// verifyParcel refuses a docket whose parcel is no longer what was matched. A parcel
// that is not at hand is no obstacle: the docket is complete in itself.
func verifyParcel(ctx context.Context, s *session.Session, h docket.Header) error {
	if !parcel.Exists(h.ParcelFile) {
		return nil
	}
	blocked := func(message string) error {
		return &session.BlockedError{Docket: h.Number, Checks: []check.Check{check.Unsealed(message)}}
	}
	p, err := parcel.Open(h.ParcelFile)
	if err != nil {
		return blocked(err.Error())
	}
	defer p.Close()
	s.Progress.Start("verifying the parcel", 0)
	err = p.Verify(ctx)
	s.Progress.Done()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return blocked(err.Error())
	}
	if p.Manifest.Seal != h.ParcelSeal {
		return blocked(fmt.Sprintf("%s is not the parcel that docket %d was matched with.", h.ParcelFile, h.Number))
	}
	return nil
}
