package matching

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/evidence"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/environment"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/register"
	"anagram/internal/store/workspace"
)

// compared says what is compared with what. It is handed on and never changed.
type compared struct {
	session   *session.Session
	number    int // that the docket will have
	source    string
	parcel    *parcel.Reader
	target    string
	env       session.Described  // the target
	reader    environment.Reader // of the target, by the names that the source gives records
	against   *parcel.Reader     // nil where the target is an environment
	catalog   *catalog.Catalog
	model     *environment.Model
	selection choose.Chosen
	scratch   string

	known     *parcel.Reader  // what both last agreed on; nil where nothing is known
	remembers *agreed.Writing // nil where nothing is remembered
	// Names of paired records: in the target, and by what was agreed; nil where nothing is
	// paired.
	names, agreedNames *pairing.Names
	pairs              []docket.Paired // those that are in use
	// beside are the other keys of records that come in next to the target's own, nil for none;
	// besideOf gives for their addresses those that they have in the source.
	beside   *pairing.Names
	besideOf map[string]string
	back     *Back // nil where nothing is taken back
	// looks are the fields that behave like internal ids in the target, by record type.
	looks map[string][]evidence.Suspect
}

// open opens both sides and what they agreed on, and refuses what cannot be compared.
func open(ctx context.Context, s *session.Session, r Request) (c compared, err error) {
	c = compared{session: s, back: r.Back}
	defer func() {
		if err != nil {
			c.close()
		}
	}()
	if c.parcel, err = library.Verified(ctx, s, r.Parcel); err != nil {
		return c, err
	}
	c.source = c.parcel.Manifest.Source
	if c.source == r.Against && c.parcel.Manifest.Origin == "" {
		return c, session.Usage("Parcel %s was exported from %s itself; name another environment with --against", library.NameOf(c.parcel), r.Against)
	}
	if c.catalog, err = s.Workspace.Catalog(); err != nil {
		return c, err
	}
	if err := sameKeys(c.parcel, c.catalog, s.Workspace.CatalogName(), r.Back); err != nil {
		return c, err
	}
	t, err := openTarget(ctx, s, r.Against, c.catalog)
	if err != nil {
		return c, err
	}
	c.env, c.reader, c.target, c.against = t.Described, t.Environment, t.name, t.parcel
	c.model = &environment.Model{Environment: c.target, Catalog: c.catalog, Shapes: c.parcel.Manifest.Keys, Here: s.Zone(c.target), There: s.Zone(c.cameFrom())}
	if c.scratch, err = s.Workspace.Scratch(); err != nil {
		return c, err
	}
	if c.number, err = nextNumber(s); err != nil {
		return c, err
	}
	if c.known, c.remembers, err = openAgreed(ctx, c, r.Agreed); err != nil {
		return c, err
	}
	if c.selection, err = choose.SelectTypes(c.parcel.Catalog, c.parcel.Manifest.Selection); err != nil {
		return c, err
	}
	if err := c.fits(); err != nil {
		return c, err
	}
	if c.looks, err = c.suspects(ctx); err != nil {
		return c, err
	}
	return c, c.selection.Compile(c.catalog, c.target, c.env.About, c.parcel.Manifest.Selection)
}

// cameFrom is the environment from which the values of the source came.
func (c compared) cameFrom() string {
	if c.back != nil {
		return c.back.Source
	}
	return c.source
}

func (c compared) close() {
	c.remembers.Discard()
	if c.known != nil {
		_ = c.known.Close()
	}
	if c.env.Environment != nil {
		_ = c.env.Close()
	}
	if c.parcel != nil {
		_ = c.parcel.Close()
	}
}

func nextNumber(s *session.Session) (int, error) {
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil || len(numbers) == 0 {
		return 1, err
	}
	return numbers[len(numbers)-1] + 1, nil
}

// openAgreed finds what both sides last agreed on: what is given, else what was
// remembered of this pair. Parcels made by hand and parcels that are only compared with
// each other leave no trace.
func openAgreed(ctx context.Context, c compared, given string) (known *parcel.Reader, remembers *agreed.Writing, err error) {
	p := c.parcel.Manifest
	paired := c.against == nil && p.Origin == ""
	switch {
	case given != "":
		if known, err = library.Verified(ctx, c.session, given); err == nil {
			err = sameKeys(known, c.catalog, c.session.Workspace.CatalogName(), c.back)
		}
	case paired:
		known, err = agreed.Open(c.session, p.Source, c.target)
	}
	if err != nil || !paired {
		return known, nil, err
	}
	// A parcel that merely says where it comes from teaches nothing before it is imported.
	ours, err := register.Exported(c.session.Workspace, register.Export{Seal: p.Seal, Source: p.Source, At: p.ExportedAt})
	if err == nil && ours {
		remembers, err = agreed.Begin(c.session, p.Source, c.target, known, p.Keys, c.catalog)
	}
	return known, remembers, err
}

// agreedLater reports whether what is known to be agreed on a type is from a parcel that
// was exported after this one: then it says nothing about who moved since.
func (c compared) agreedLater(typ string) bool {
	return agreed.UpTo(c.known, c.source, typ) > c.parcel.Manifest.ExportedAt
}

// fits refuses a target in which the catalog does not hold, unless it is just that a
// whole type is not there: then the type is not compared, and that is said.
func (c compared) fits() error {
	var names []string
	for _, t := range c.parcel.Manifest.Types {
		names = append(names, t.Name)
	}
	var bad []catalog.Problem
	for _, p := range c.env.Problems(c.catalog, names) {
		if !p.Missing {
			bad = append(bad, p)
		}
	}
	if len(bad) > 0 {
		return &session.CatalogError{Catalog: c.session.Workspace.CatalogName(), Environment: c.target, Problems: bad}
	}
	return c.inZones()
}

// inZones refuses times that have a zone on one side only, unless it is known in which zone
// those of the other side are.
func (c compared) inZones() error {
	for _, pt := range c.parcel.Manifest.Types {
		t, _ := c.catalog.Type(pt.Name)
		place := c.env.About.Places[t.Place(c.target)]
		for _, field := range slices.Concat(c.parcel.Manifest.Keys[pt.Name], pt.Fields) {
			column, ok := place.Column(field.Name)
			if _, said := t.As[field.Name]; !ok || said || field.Refers != "" {
				continue // of what as: says, the environments tell by themselves
			}
			instant, local, zone := c.source, c.target, c.model.Here
			switch {
			case field.Kind == record.Timestamp && column.Kind == record.LocalTimestamp:
			case field.Kind == record.LocalTimestamp && column.Kind == record.Timestamp:
				instant, local, zone = c.target, c.source, c.model.There
			default:
				continue
			}
			if zone == nil || c.against != nil {
				return session.Usage("Field %s of %s is an instant in %s and a time without a zone in %s. Say with zone: of %s in anagram.yaml in which zone its times are; or leave the field out with ignore: in the catalog, and export again",
					field.Name, pt.Name, instant, local, local)
			}
		}
	}
	return nil
}

// header says in the docket what was compared with what.
func (c compared) header(out *sink) (docket.Header, error) {
	p := c.parcel.Manifest
	file, err := filepath.Abs(c.parcel.Path())
	if err != nil {
		return docket.Header{}, err
	}
	h := docket.Header{
		Number: c.number, Parcel: library.NameOf(c.parcel), ParcelFile: file, ParcelSeal: p.Seal, Source: p.Source,
		ExportedAt: p.ExportedAt, ExportedBy: p.ExportedBy, Target: c.target, TargetAddress: c.session.AddressOf(c.target, c.env.About.Address), Release: p.Release, Settings: p.Settings,
		MatchedAt: docket.Stamp(c.session.Now()), MatchedBy: c.session.Who, Keys: p.Keys, NotCompared: out.left, Program: c.session.Program,
		Fills: c.fills(out.types), Zones: zonesOf(c.session, p.Source, c.target), Paired: c.pairs, Resealed: p.Resealed, ByHand: p.Origin != "",
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
		for _, stamp := range t.Stamped(place, c.target, c.session.Who) {
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
				if _, known := t.Stamp(column, c.target, c.session.Who, c.session.Now()); known {
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

// fromParcel gives the compared fields of the parcel's records. A parcel has no internal
// ids; where a key occurs twice, the spelling of each tells the records apart.
func (c compared) fromParcel(ctx context.Context, typ string, fields []record.Field, at []int) record.Stream {
	pt, _ := c.parcel.Manifest.Type(typ)
	all := len(at) == len(pt.Fields) // in their order, so that the line is that of the parcel
	complete := func(rec *record.Record) {
		values := make([]record.Value, len(at))
		for i, from := range at {
			values[i] = rec.Values[from]
		}
		rec.Values, rec.ID = values, c.catalog.Address(typ, rec.Key)
		rec.Line = record.AppendLine(nil, fields, record.Record{Key: rec.Key, Values: values})
	}
	var load func(*record.Record) error
	completed := func(r *record.Record) error {
		err := load(r)
		if err == nil {
			complete(r)
		}
		return err
	}
	return func(yield func(record.Record, error) bool) {
		records := c.records
		if !c.beside.Touches(typ) {
			records = c.parcel.Lines
		}
		for rec, err := range records(ctx, typ) {
			switch {
			case err != nil:
			case rec.Load == nil:
				complete(&rec)
			case !all:
				if err = rec.Load(&rec); err == nil {
					complete(&rec)
				}
			default:
				if load == nil { // which is the same for all of them
					load = rec.Load
				}
				rec.Load = completed
			}
			c.session.Progress.Add(1)
			if !yield(rec, err) {
				return
			}
		}
	}
}

// unknownInTarget says which records a target that is a parcel may have without their
// being in it: any, of a type that was not exported whole.
func (c compared) unknownInTarget(typ string) func(record.Key) bool {
	if c.against == nil {
		return nil
	}
	pt, _ := c.against.Manifest.Type(typ)
	return func(record.Key) bool { return !pt.Whole }
}

// checkAgreed cautions where what was agreed is from after the export.
func checkAgreed(ctx context.Context, c compared, out *sink) error {
	var types []string
	for _, pt := range c.parcel.Manifest.Types {
		if c.agreedLater(pt.Name) {
			types = append(types, pt.Name)
		}
	}
	if len(types) == 0 {
		return nil
	}
	return out.onDocket(ctx, check.Overtaken(library.NameOf(c.parcel), c.source, c.target, types))
}

// target is what a parcel is matched with: an environment or another parcel.
type target struct {
	session.Described
	name   string
	parcel *parcel.Reader
}

// sameKeys refuses a parcel whose keys or references mean something else than the
// workspace's catalog says now: records would be matched by the wrong fields. What is taken back
// needs the catalog of its docket.
func sameKeys(p *parcel.Reader, c *catalog.Catalog, name string, back *Back) error {
	when, mend := "when the parcel was exported", "Export again, then match"
	if back != nil {
		when = fmt.Sprintf("in docket %d", back.Docket)
		mend = fmt.Sprintf("The docket has its catalog: write it with anagram catalog show --docket %d --out FILE, name that file with catalog: in %s, then restore again", back.Docket, workspace.ConfigName)
	}
	for _, pt := range p.Manifest.Types {
		if _, ok := p.Catalog.Type(pt.Name); !ok {
			return &parcel.Error{Parcel: p.Path(), File: "parcel.json", Message: fmt.Sprintf("it holds records of %q, which its own catalog does not describe", pt.Name)}
		}
		if _, here := c.Type(pt.Name); !here && back != nil {
			return session.Usage("Docket %d brought records of %s, which %s does not describe. %s", back.Docket, pt.Name, name, mend)
		} else if !here {
			return session.Usage("The parcel holds records of %s, which %s does not describe%s Describe it, or export without it", pt.Name, name, orEnd(yamldoc.Nearest(pt.Name, c.Names())))
		}
	}
	// What records are referred to by counts as well.
	for _, was := range p.Catalog.Types {
		now, here := c.Type(was.Name)
		if _, has := p.Manifest.Keys[was.Name]; !has || !here {
			continue
		}
		if changed := now.MeansOther(was, when); changed != nil {
			return session.Usage("%s says %v. %s", name, changed, mend)
		}
		pt, _ := p.Manifest.Type(was.Name)
		if wrong := now.Describes(p.Manifest.Keys[was.Name], pt.Fields); wrong != nil {
			return session.Usage("%s: parcel.json does not fit %s: %v. %s", p.Path(), name, wrong, mend)
		}
	}
	return nil
}

func orEnd(near string) string {
	if near == "" {
		return "."
	}
	return near
}

// openTarget opens the target of a match.
func openTarget(ctx context.Context, s *session.Session, name string, c *catalog.Catalog) (target, error) {
	if _, err := s.Workspace.Environment(name); err == nil {
		env, err := s.OpenDescribed(ctx, name, c)
		return target{Described: env, name: name}, err
	} else if _, pathErr := library.Path(s, name); pathErr != nil {
		return target{}, err
	}
	p, err := library.Verified(ctx, s, name)
	if err != nil {
		return target{}, err
	}
	if err := sameKeys(p, c, s.Workspace.CatalogName(), nil); err != nil {
		return target{}, errors.Join(err, p.Close())
	}
	called := fmt.Sprintf("%s (parcel %s)", p.Manifest.Source, library.NameOf(p))
	return target{Described: sides.DescribeParcel(p, called, c), name: called, parcel: p}, nil
}

// CanMatch refuses a target that is neither an environment nor a parcel, before anything
// is exported to be matched with it.
func CanMatch(s *session.Session, name string) error {
	_, err := s.Workspace.Environment(name)
	if err != nil {
		if _, pathErr := library.Path(s, name); pathErr == nil {
			return nil
		}
	}
	return err
}
