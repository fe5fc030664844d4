package matching

import (
	"path/filepath"

	"anagram/internal/core/check"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
)

// What a docket says of how it came about.

// header says in the docket what was compared with what.
func (c compared) header(out *sink) (docket.Header, error) {
	p := c.parcel.Manifest
	file, err := filepath.Abs(c.parcel.Path())
	if err != nil {
		return docket.Header{}, err
	}
	h := docket.Header{
		Number: c.number, Parcel: library.NameOf(c.parcel), ParcelFile: file, ParcelSeal: p.Seal, Source: c.source,
		ExportedAt: p.ExportedAt, ExportedBy: p.ExportedBy, Target: c.target,
		TargetAddress: c.session.AddressOf(c.target, c.env.About.Address), Release: p.Release, Settings: p.Settings,
		MatchedAt: run.Stamp(c.session.Now()), MatchedBy: c.session.Who, Keys: p.Keys, NotCompared: out.left, Program: c.session.Program,
		Fills: c.fills(out.types), Rules: c.rulesTried(out.types), Zones: zonesOf(c.session, c.source, c.target), Paired: c.pairs,
		Resealed: p.Resealed, ByHand: p.Origin != "",
	}
	if zone := c.session.Zone(c.target); c.then {
		if h.Then = c.target; zone != nil {
			h.Zones[c.source] = zone.String()
		}
	}
	if e, err := c.session.Workspace.Environment(c.target); err == nil && c.against == nil && e.Around.Any() {
		of := docket.Around(e.Around)
		h.Around = &of
	}
	if c.back != nil {
		h.Restores, h.ParcelFile, h.ParcelSeal = c.back.Docket, "", ""
		if zone := c.session.Zone(c.back.Source); zone != nil {
			h.Zones[p.Source] = zone.String()
		}
		return h, nil
	}
	h.Brings = brings(p)
	if t := c.against; t != nil {
		h.TargetParcel, h.TargetExportedAt, h.TargetExportedBy = library.NameOf(t), t.Manifest.ExportedAt, t.Manifest.ExportedBy
	}
	return h, nil
}

// fills tells what an import would give records beside what the source brings.
func (c compared) fills(types []docket.Type) map[string]docket.Fills {
	out := map[string]docket.Fills{}
	if c.against != nil {
		return out
	}
	for _, of := range types {
		t, _ := c.catalog.Type(of.Name)
		place := c.env.About.Places[t.Place(c.target)]
		var fills docket.Fills
		for _, field := range t.LocalFields() {
			if value, ok := t.Local[field][c.target]; ok {
				fills.New = append(fills.New, docket.Filled{Field: field, What: "value", Value: value})
			}
		}
		for _, stamp := range t.Stamped(place, c.target, t.Signature(c.session.Who, c.signs.ids)) {
			filled := docket.Filled{Field: stamp.Name, What: "time"}
			if account, ok := t.StampAccount[c.target]; t.IsPerson(stamp.Name) && ok {
				filled.What, filled.Value = "value", account
			} else if t.IsPerson(stamp.Name) {
				filled.What = "person"
			}
			fills.New = append(fills.New, filled)
		}
		for _, name := range []string{t.StampAt, t.StampBy} {
			if column, ok := place.Column(name); ok && name != "" && !column.Derived && !t.StampNever {
				if _, known := t.Stamp(column, c.target, t.Signature(c.session.Who, c.signs.ids), c.session.Now()); known {
					fills.Changed = append(fills.Changed, name)
				}
			}
		}
		if len(fills.New)+len(fills.Changed) > 0 {
			out[of.Name] = fills
		}
	}
	return out
}

// rulesTried tells which rules of the target the values were held against.
func (c compared) rulesTried(types []docket.Type) map[string][]string {
	out := map[string][]string{}
	if c.against != nil || c.env.Environment.Can().Judge == nil {
		return out
	}
	for _, of := range types {
		t, _ := c.catalog.Type(of.Name)
		for _, rule := range check.Judged(t, c.env.About.Places[t.Place(c.target)], c.model.Shapes[of.Name], of.Fields) {
			out[of.Name] = append(out[of.Name], rule.Text)
		}
	}
	return out
}

// zonesOf tells in which zones the workspace says that times without one are.
func zonesOf(s *session.Session, names ...string) map[string]string {
	out := map[string]string{}
	for _, name := range names {
		if zone := s.Zone(name); zone != nil {
			out[name] = zone.String()
		}
	}
	return out
}

// brings tells which types a parcel has as a whole, or all changes of since a moment.
func brings(p parcel.Manifest) map[string]string {
	out := map[string]string{}
	s := p.Selection
	for _, pt := range p.Types {
		switch {
		case len(s.LeaveOut) > 0 || p.Origin != "" || len(p.Resealed) > 0:
		case pt.Whole:
			out[pt.Name] = ""
		case s.Moment(pt.Name) != "" && s.Where[pt.Name] == "" && len(s.Records) == 0 && s.Related != parcel.RelatedParts:
			out[pt.Name] = s.Moment(pt.Name)
		}
	}
	return out
}
