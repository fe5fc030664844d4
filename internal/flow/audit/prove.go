package audit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/export"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
)

// Proof is what was found.
type Proof struct {
	Header     docket.Header // of the docket that is proven
	Docket     int           // that was made to look, 0 where the target alone was read
	Imported   int           // records that the imports of the docket wrote
	AsApproved int           // of them
	Differs    []*Otherwise  // of them: those that hold something else
	Gone       []*Otherwise  // of them: those that are not there any more
	Twice      []*Otherwise  // of them: those whose key stands there more than once
	Moved      []Moved       // what else moved of them
	Open       []Left        // records that differed and were not imported, and still differ
	Settled    int           // records that differed, were not imported, and no longer differ
	Since      []Moved       // records that differ now and did not then
	NotLooked  string        // why what else moved was not looked at, "" where it was
}

// Moved is a record of which something moved since that the import did not write, or that is not
// in question for what was approved.
type Moved struct {
	Address string
	Where   string        // source, target or both; "" is not known
	What    string        // for people
	Change  docket.Change // the last one there; At is "" where it is not told
}

// Left is a record that was not imported.
type Left struct {
	Address string
	Why     string // open, declined, held, target-kept, approved or left-out
}

// Sound reports whether all that was imported is in the target as it was approved.
func (r Proof) Sound() bool { return len(r.Differs)+len(r.Gone)+len(r.Twice) == 0 }

// Quiet reports whether nothing else moved or differs either.
func (r Proof) Quiet() bool { return len(r.Moved)+len(r.Open)+len(r.Since) == 0 && r.NotLooked == "" }

// Prove reads in the target what the imports of a docket wrote, and looks at what else moved
// since. With keep what was made to look, a parcel and a docket, is kept; else nothing of it is left.
func Prove(ctx context.Context, s *session.Session, d *docket.Docket, keep bool) (Proof, error) {
	out := Proof{Header: d.Header}
	h := d.Header
	if err := prepare.Known(s, d); err != nil {
		return out, err
	}
	if h.TargetParcel != "" {
		return out, session.Usage("Docket %d compares two parcels and was never imported", h.Number)
	}
	runs, err := run.List(ctx, d)
	if err != nil {
		return out, err
	}
	if !slices.ContainsFunc(runs, run.Run.Done) {
		return out, session.Usage("Docket %d was not imported, so there is nothing to prove", h.Number)
	}
	written, err := docket.Brought(ctx, d)
	if err != nil {
		return out, err
	}
	out.Imported = len(written)
	if len(written) == 0 {
		return out, session.Usage("The imports of docket %d wrote nothing, so there is nothing to prove", h.Number)
	}
	if err := out.inTarget(ctx, s, d, runs, written); err != nil {
		return out, err
	}
	if h.Restores != 0 {
		return out, out.leftOpen(ctx, d, written)
	}
	if err := out.elsewhere(ctx, s, d, keep, written); err != nil {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		out.NotLooked = err.Error()
	}
	return out, nil
}

// elsewhere looks at what else moved: what was matched is exported and matched once more.
func (r *Proof) elsewhere(ctx context.Context, s *session.Session, d *docket.Docket, keep bool, written map[int64]bool) error {
	h := d.Header
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return err
	}
	aside, err := os.MkdirTemp(scratch, "prove-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(aside)
	request := matching.Request{Parcel: h.ParcelFile, Against: h.Target}
	export := export.Request{Note: fmt.Sprintf("to prove docket %d", h.Number)}
	if !keep {
		request.Aside, export.Aside = filepath.Join(aside, "prove.docket"), filepath.Join(aside, "prove"+parcel.Suffix)
	}
	if !h.ByHand && h.Then == "" {
		if request.Parcel, err = exportAgain(ctx, s, h, export); err != nil {
			return err
		}
		request.Fresh = true
	}
	made, err := matching.Match(ctx, s, request)
	if err != nil {
		return err
	}
	path := request.Aside
	if keep {
		r.Docket = made.Header.Number
		path = s.Workspace.DocketPath(r.Docket)
	}
	now, err := docket.Open(ctx, path)
	if err != nil {
		return err
	}
	defer now.Close()
	return r.compare(ctx, d, now, written)
}

// exportAgain repeats the export of what a docket was matched with.
func exportAgain(ctx context.Context, s *session.Session, h docket.Header, r export.Request) (string, error) {
	if !parcel.Exists(h.ParcelFile) {
		return "",
			session.Usage("Parcel %s, which docket %d was matched with, is not there any more (%s), so what was exported is not known. Bring it back, or match by hand", h.Parcel, h.Number, h.ParcelFile)
	}
	exported, err := export.Again(ctx, s, h.ParcelFile, r)
	if r.Aside != "" {
		return r.Aside, err
	}
	return exported.Manifest.Name, err
}

type place struct{ typ, order string }

// compare holds what was found then against what is found now. What was written was read in the
// target already; of it only what moved in the source is told here.
func (r *Proof) compare(ctx context.Context, then, now *docket.Docket, written map[int64]bool) error {
	found := map[place]docket.Finding{}
	for f, err := range now.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return err
		}
		found[place{f.Type, f.Order}] = f.Brief()
	}
	checks, err := now.Found.Checks(ctx)
	if err != nil {
		return err
	}
	for f, err := range then.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return err
		}
		is, differs := found[place{f.Type, f.Order}]
		delete(found, place{f.Type, f.Order})
		switch {
		case written[f.ID] && differs:
			one, moved := movedSince(f, is, checks[is.ID])
			if moved && (one.Where == "source" || one.Where == "both") {
				one.Change = now.Header.ChangeIn(is, now.Header.Source)
				r.Moved = append(r.Moved, one)
			}
			if left := leftOf(f); !moved && left != "" {
				r.Open = append(r.Open, Left{f.Address, left})
			}
		case written[f.ID], !f.Asks() && !f.Touched(): // it is equal, or nothing was asked about it
		case differs:
			why := string(f.Stand())
			if f.Stand() == decision.Approved {
				why = run.WasLeftOut
			}
			r.Open = append(r.Open, Left{f.Address, why})
		default:
			r.Settled++
		}
	}
	for _, f := range found {
		r.Since = append(r.Since, sinceThen(now.Header, f))
	}
	slices.SortFunc(r.Since, func(a, b Moved) int { return strings.Compare(a.Address, b.Address) })
	return nil
}

// sinceThen tells of a record that differs now and did not then.
func sinceThen(h docket.Header, f docket.Finding) Moved {
	out := Moved{Address: f.Address}
	sides := map[string]bool{}
	for _, field := range f.Fields {
		sides[field.Moved] = true
	}
	switch f.Status {
	case match.New:
		out.Where, out.What = "source", "it came into the source"
	case match.TargetOnly:
		out.Where, out.What = "target", "it came into the target, or left the source"
	default:
		var names []string
		for _, field := range f.Fields {
			names = append(names, field.Field)
		}
		out.Where, out.What = whereMoved(f.Status, false, sides, strings.Join(names, ", "))
	}
	if out.Where != "source" {
		out.Change = h.ChangeIn(f, h.Target)
	}
	if out.Change.At == "" {
		out.Change = h.ChangeIn(f, h.Source)
	}
	return out
}

// leftOf says what of a record that was imported in part stands for the rest of it.
func leftOf(f docket.Finding) string {
	for _, field := range f.Fields {
		if on := f.On(field.Field); on != decision.Approved && f.Proposes(field) != match.Keep {
			return string(on)
		}
	}
	return ""
}

// movedSince says how a record that was imported differs now; moved is false where it only
// does in fields that were not.
func movedSince(was, is docket.Finding, checks []check.On) (out Moved, moved bool) {
	out.Address = was.Address
	whole := is.Status == match.New || is.Status == match.TargetOnly || is.Status == match.Conflict && is.Adds()
	approved := was.ApprovedFields()
	var fields []string
	sides := map[string]bool{}
	for _, f := range is.Fields {
		if was.Adds() || slices.Contains(approved, f.Field) || whole {
			fields = append(fields, f.Field)
			sides[f.Moved] = true
		}
	}
	if len(fields) == 0 && !whole {
		return out, false
	}
	out.Where, out.What = whereMoved(is.Status, whole, sides, strings.Join(fields, ", "))
	for _, c := range checks {
		if slices.Contains([]check.Code{"both-moved", "removed-in-target", "target-newer", check.AmbiguousKey}, c.Code) {
			out.What += ". " + strings.TrimSuffix(show.Harmless(c.Message), ".")
		}
	}
	return out, true
}

// whereMoved says on which side a record moved, and how; sides are those that its fields moved on.
func whereMoved(status match.Status, whole bool, sides map[string]bool, fields string) (where, what string) {
	switch {
	case status == match.TargetOnly:
		return "source", "it is no longer in the source"
	case whole:
		return "target", "it is no longer in the target"
	case sides["both"] || sides["source"] && sides["target"]:
		return "both", "changed on both sides: " + fields
	case sides["source"]:
		return "source", "changed in the source: " + fields
	case sides["target"]:
		return "target", "changed in the target: " + fields
	default:
		return "", "differs: " + fields
	}
}

// leftOpen lists what of a restore was not imported.
func (r *Proof) leftOpen(ctx context.Context, d *docket.Docket, written map[int64]bool) error {
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return err
		}
		if written[f.ID] || !f.Asks() {
			continue
		}
		why := string(f.Stand())
		if f.IsApproved() {
			why = run.WasLeftOut
		}
		r.Open = append(r.Open, Left{f.Address, why})
	}
	return nil
}
