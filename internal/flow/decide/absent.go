package decide

import (
	"context"
	"fmt"

	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// mostLooked is how many findings are looked at for the one that may have been meant.
const mostLooked = 20_000

// Absent says why a docket has no finding of an address: it is none, the record is the same on
// both sides, or something like it was meant. "" is that nothing is known.
func Absent(ctx context.Context, s *session.Session, d *docket.Docket, p record.Pattern) string {
	if !p.Exact() {
		return ""
	}
	if _, isType := d.Catalog.Type(p.String()); isType {
		return fmt.Sprintf("; all of that type are %s/*", p.String())
	}
	typ, key, err := d.Catalog.ParseAddress(d.Header.Keys, p.String())
	if err != nil {
		return "; " + err.Error()
	}
	if isSame(ctx, s, d, typ, key) {
		return fmt.Sprintf("; %s is the same on both sides, so there is nothing to decide of it", d.Catalog.Address(typ, key))
	}
	var known []string
	for f, err := range d.Found.Findings(ctx, docket.Filter{Types: []string{typ}}) {
		if err != nil || len(known) >= mostLooked {
			break
		}
		known = append(known, f.Address)
	}
	return yamldoc.Likest(p.String(), known)
}

// isSame reports whether the parcel that was matched has a record: one that is no finding was
// the same then. Where the parcel is gone, that is not known.
func isSame(ctx context.Context, s *session.Session, d *docket.Docket, typ string, key record.Key) bool {
	if d.Header.ParcelFile == "" {
		return false
	}
	r, err := parcel.Open(s.Workspace.Path(d.Header.ParcelFile))
	if err != nil || r.Manifest.Seal != d.Header.ParcelSeal {
		return false
	}
	defer r.Close()
	for rec, err := range r.Heads(ctx, typ) {
		if err != nil {
			return false
		}
		if c := rec.Key.Compare(key); c >= 0 {
			return c == 0
		}
	}
	return false
}
