package matching

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/evidence"
	"anagram/internal/core/known"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/register"
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

	copied    *known.Copy     // nil where it is not said that one environment is a copy of the other
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
	then     bool  // the target is compared with what it was itself when the parcel was exported
	// looks are the fields that behave like internal ids in the target, by record type.
	looks map[string][]evidence.Suspect
	signs signatures
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
		// What it was then is compared with what it is now.
		c.then, c.source = true, c.source+"@"+then(c.parcel.Manifest.ExportedAt)
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
	c.model = &environment.Model{Environment: c.target, Catalog: c.catalog, Shapes: c.parcel.Manifest.Keys, Here: s.Zone(c.target),
		There: s.Zone(c.cameFrom())}
	if c.against == nil {
		if c.signs.ids, c.signs.asked, err = fit.Signatures(ctx, c.env, c.env.About.Places, c.model, s.Who); err != nil {
			return c, err
		}
	}
	if c.scratch, err = s.Workspace.Scratch(); err != nil {
		return c, err
	}
	if c.number, err = nextNumber(s); err != nil {
		return c, err
	}
	if c.known, c.remembers, err = openAgreed(ctx, c, r.Agreed); err != nil {
		return c, err
	}
	c.copied = copiedAt(c)
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
	if c.then {
		return c.target
	}
	return c.source
}

// then writes a moment to the second, as the name of an environment then ends.
func then(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.UTC().Format(time.RFC3339)
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
	paired := c.against == nil && p.Origin == "" && !c.then // what was then teaches nothing
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

// copiedAt says when one of both environments was copied from the other, as far as anybody says so.
func copiedAt(c compared) *known.Copy {
	of, ok := c.session.Workspace.CopiedAt(c.source, c.target)
	if !ok || c.against != nil || c.back != nil || c.parcel.Manifest.Origin != "" {
		return nil
	}
	zone := c.model.Here
	if zone == nil {
		zone = c.env.About.Zone
	}
	return &known.Copy{At: of.At, Source: c.model.There, Target: zone}
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

// checkAgreed cautions where what was agreed is from after the export.
func checkAgreed(c compared, out *sink) {
	var types []string
	for _, pt := range c.parcel.Manifest.Types {
		if c.agreedLater(pt.Name) {
			types = append(types, pt.Name)
		}
	}
	if len(types) > 0 {
		out.onDocket(check.Overtaken(library.NameOf(c.parcel), c.source, c.target, types))
	}
}

// target is what a parcel is matched with: an environment or another parcel.
type target struct {
	session.Described
	name   string
	parcel *parcel.Reader
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

// CanMatch refuses a target that is neither another environment nor a parcel, before anything
// is exported to be matched with it.
func CanMatch(s *session.Session, source, name string) error {
	if source == name {
		return session.Usage("%s is the same on both sides. Name another environment with --against, or match an earlier parcel of %s with it to see what changed since", name, name)
	}
	_, err := s.Workspace.Environment(name)
	if err != nil {
		if _, pathErr := library.Path(s, name); pathErr == nil {
			return nil
		}
	}
	return err
}
