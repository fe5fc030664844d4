package matching

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/register"
)

// Result says what a match found.
type Result struct {
	Header   docket.Header
	Types    []docket.Type
	Blockers int
	Cautions int
	Docket   []check.Check // on the whole docket
	Carried  int           // findings decided as in an earlier docket
	// ApprovedBefore are findings that an earlier docket approved and nobody imported.
	ApprovedBefore int
	ByRule         int // findings decided by a rule of the workspace
	Open           int // findings that ask for a decision and have none
	// Gone is how many records of the removal list of docket Listed are no longer only in the
	// target.
	Gone, Listed int
	// Forgotten is why it could not be remembered what both sides agree on, and Uncarried
	// why decisions of earlier dockets were not filled in. The docket stands all the same.
	Forgotten, Uncarried error
}

// Request says what to match with what.
type Request struct {
	Parcel  string
	Against string // an environment or another parcel
	// Agreed is a parcel with what both sides last had in common; "" takes what was
	// remembered.
	Agreed string
	// Fresh says that the parcel was exported just now, so that the source need not be asked
	// whether it went on.
	Fresh bool
	// Back says that the match is there to take an import back; nil is any other.
	Back *Back
}

// Match compares a parcel with an environment and makes a docket of what differs.
func Match(ctx context.Context, s *session.Session, r Request) (Result, error) {
	for {
		// Another match that finished in between has the number; checks name the docket, so
		// this one is done again.
		if result, taken, err := once(ctx, s, r); err != nil || !taken {
			return result, err
		}
	}
}

func once(ctx context.Context, s *session.Session, r Request) (result Result, taken bool, err error) {
	c, err := open(ctx, s, r)
	if err != nil {
		return result, false, err
	}
	defer c.close()
	out, err := newSink(ctx, c)
	if err != nil {
		return result, false, err
	}
	defer out.builder.Discard()
	if err := wholeDocket(ctx, c, r, out); err != nil {
		return result, false, err
	}
	if c, err = c.named(ctx, out); err != nil {
		return result, false, err
	}
	likely := newLikely(c)
	for _, t := range c.catalog.Types {
		if pt, ok := c.parcel.Manifest.Type(t.Name); ok {
			if err := matchType(ctx, c, t, pt, likely, out); err != nil {
				return result, false, err
			}
		}
	}
	if err := afterwards(ctx, c, out); err != nil {
		return result, false, err
	}
	if err := out.builder.Group(ctx, c.against == nil); err != nil {
		return result, false, err
	}
	header, err := c.header(out)
	if err != nil {
		return result, false, err
	}
	dockets, err := s.Workspace.Dockets()
	if err != nil {
		return result, false, err
	}
	unlock, err := register.Lock(ctx, s.Workspace)
	if err != nil {
		return result, false, err
	}
	defer unlock()
	taken, err = out.builder.Finish(ctx, filepath.Join(dockets, fmt.Sprintf("%04d.docket", c.number)), header, c.catalog.Source, func(digest string) error {
		return register.Add(s.Workspace, c.number, digest)
	})
	if err != nil || taken {
		return result, taken, err
	}
	// From here on the docket stands; what fails now is told beside it.
	result = Result{Header: header, Types: out.types, Blockers: out.blockers, Cautions: out.cautions, Docket: out.whole}
	return told(ctx, s, c, result), false, ctx.Err()
}

// told completes what a match found with what is done once its docket stands.
func told(ctx context.Context, s *session.Session, c compared, result Result) Result {
	header := result.Header
	if c.remembers != nil {
		result.Forgotten = c.remembers.Finish(ctx)
	}
	if c.back != nil {
		for _, t := range result.Types { // all of it asks: nothing is decided yet
			result.Open += t.Counts[match.Conflict] + t.Counts[match.Changed] + t.Counts[match.New] + t.Counts[match.TargetOnly]
		}
		return result
	}
	result.Carried, result.ApprovedBefore, result.Uncarried = decide.Carry(ctx, s, header)
	if result.Uncarried == nil && header.TargetParcel == "" {
		result.ByRule, result.Uncarried = decide.ByRule(ctx, s, header.Number)
	}
	var err error
	if result.Open, err = openIn(ctx, s, c.number, result); err != nil {
		result.Uncarried = errors.Join(result.Uncarried, err)
	}
	if result.Uncarried == nil {
		result.Gone, result.Listed, result.Uncarried = decide.Gone(ctx, s, header)
	}
	return result
}

// openIn counts the findings of a new docket that ask for a decision and have none.
func openIn(ctx context.Context, s *session.Session, number int, result Result) (int, error) {
	if result.Carried+result.ByRule == 0 {
		n := 0
		for _, t := range result.Types {
			for status, of := range t.Counts {
				if match.Asks(status) {
					n += of
				}
			}
		}
		return n, nil
	}
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	summary, err := docket.Summarize(ctx, d)
	return summary.Tally.Open, err
}

// named gives what is compared with the records that have other keys on the two sides.
func (c compared) named(ctx context.Context, out *sink) (compared, error) {
	if c.back != nil {
		return c.withBack()
	}
	c, err := c.withBeside()
	if err != nil {
		return c, err
	}
	return c.withPairs(ctx, out)
}

// wholeDocket checks what is about both sides as such.
func wholeDocket(ctx context.Context, c compared, r Request, out *sink) error {
	if c.back != nil {
		if now := c.session.AddressOf(c.target, c.env.About.Address); now != c.back.Address {
			if err := out.onDocket(ctx, check.MovedTarget(c.target, c.back.Docket, c.back.Address, now)); err != nil {
				return err
			}
		}
		if len(c.back.Left) == 0 {
			return nil
		}
		return out.onDocket(ctx, check.Left(c.back.Docket, c.back.Left))
	}
	if c.against == nil {
		before, err := c.session.OtherWay(ctx, c.source, c.target)
		if err != nil {
			return err
		}
		if before != 0 {
			if err := out.onDocket(ctx, check.Direction(c.source, c.target, c.number, before)); err != nil {
				return err
			}
		}
	}
	if err := checkFit(ctx, c, out); err != nil {
		return err
	}
	if err := checkTimes(ctx, c, r.Fresh, out); err != nil {
		return err
	}
	return checkAgreed(ctx, c, out)
}

// afterwards checks what shows only once all types were compared.
func afterwards(ctx context.Context, c compared, out *sink) error {
	if err := oneSided(ctx, c, out); err != nil || c.against != nil { // into a parcel nothing will be imported
		return err
	}
	if err := outside(ctx, out); err != nil {
		return err
	}
	if err := referrers(ctx, c, out); err != nil {
		return err
	}
	if err := taken(ctx, c, out); err != nil {
		return err
	}
	if err := resolveNeeds(ctx, c, out); err != nil {
		return err
	}
	if err := circles(ctx, c, out); err != nil {
		return err
	}
	return referredDiffers(ctx, c, out)
}

// atWork is the record type that is being compared.
type atWork struct {
	*catalog.Type
	place    catalog.Place  // in the target
	fields   []record.Field // those that both sides have
	required []string       // those that the target wants of a new record
}

// collectors take down what findings of one type want to be looked up together.
type collectors struct {
	renames *renames  // nil where none are looked for
	claims  *claiming // nil where nothing is unique beside the key
	rules   *ruling   // nil where the target has no rules
	outside *outsiders
}

func matchType(ctx context.Context, c compared, t *catalog.Type, pt parcel.Type, likely *likelyNames, out *sink) error {
	if there, ok := c.env.Fit.Fields[t.Name]; !ok || there == nil {
		return notThere(ctx, c, t, pt, out)
	}
	fields, at, err := commonFields(ctx, c, t, pt, out)
	if err != nil {
		return err
	}
	total := 0
	if c.against == nil && pt.Whole {
		total = c.session.Total(ctx, c.env, t.Place(c.target))
	}
	c.session.Progress.Start("reading "+t.Name+" of "+c.target, total)
	defer c.session.Progress.Done()
	w := atWork{Type: t, place: c.env.About.Places[t.Place(c.target)], fields: fields}
	w.required = requiredFields(w)
	target, err := readTarget(ctx, c, w, pt)
	if err != nil {
		return err
	}
	defer target.sorter.Close()
	c.session.Progress.Start("comparing "+t.Name, pt.Records)
	known, remember, err := agreed.Type(ctx, c.known, c.remembers, agreed.Compared{Type: t.Name, Fields: fields, Shapes: c.model.Shapes, Names: c.agreedNames,
		ExportedAt: c.parcel.Manifest.ExportedAt, Whole: pt.Whole && len(c.selection.LeaveOut) == 0, Scratch: c.scratch, Zones: agreed.Zones{Here: c.model.Here, There: c.model.There}})
	defer remember.Discard()
	if err != nil {
		return err
	}
	collect := collectors{renames: newRenames(c, t), claims: newClaiming(c, w), rules: newRuling(c, w)}
	if collect.outside, err = newOutsiders(c, w); err != nil {
		return err
	}
	counts, err := match.Join(match.Input{
		Fields: fields, Keys: c.model.Shapes[t.Name], Agreed: known, AgreedLater: c.back == nil && c.agreedLater(t.Name), AgreedIsAll: c.back != nil, Remember: remember.Note, Retired: retired(t, fields),
		Source: c.fromParcel(ctx, t.Name, fields, at), Outside: c.parcel.Outside(ctx, t.Name),
		Target: target.sorted(ctx, t.Name, fields, c.model.Shapes),
		// Of the target only what is in scope was read.
		InScope:   func(record.Key) bool { return true },
		Unknown:   c.unknownInTarget(t.Name),
		Ambiguous: out.ambiguousWithin, AnyAmbiguous: func() bool { return len(out.ambiguous) > 0 },
	}, func(f match.Finding) error { return found(ctx, c, w, f, collect, out) })
	if err == nil {
		err = remember.Finish()
	}
	if err == nil {
		err = collect.flush(ctx, c, w, likely, out)
	}
	if err == nil {
		err = asWritten(ctx, c, w, out)
	}
	if err != nil {
		return err
	}
	if err := hardlyMeets(ctx, c, w, counts.By, out); err != nil {
		return err
	}
	others, err := target.others(ctx, c, w)
	if err != nil {
		return err
	}
	return out.typeDone(ctx, docket.Type{Name: t.Name, Fields: fields, Required: w.required, Counts: counts.By, NotCompared: others + counts.NotCompared})
}

func (col collectors) flush(ctx context.Context, c compared, w atWork, likely *likelyNames, out *sink) error {
	if err := col.renames.tell(ctx, c, likely, out); err != nil {
		return err
	}
	if err := col.claims.flush(ctx, c, w, out); err != nil {
		return err
	}
	if err := col.outside.flush(ctx, c, w, out); err != nil {
		return err
	}
	return col.rules.flush(ctx, c, w, out)
}

// notThere says that a whole type is not compared, as the target does not have it.
func notThere(ctx context.Context, c compared, t *catalog.Type, pt parcel.Type, out *sink) error {
	missing := check.NoPlace(t.Name, c.target, t.Place(c.target))
	if c.against != nil {
		missing = check.NotInParcel(t.Name, c.target)
	}
	if err := out.notCompared(ctx, t.Name, missing); err != nil {
		return err
	}
	return out.typeDone(ctx, docket.Type{Name: t.Name, Fields: pt.Fields, Counts: map[match.Status]int{}, NotCompared: pt.Records})
}

// commonFields gives the fields that both sides have, and where each stands in the
// parcel's records.
func commonFields(ctx context.Context, c compared, t *catalog.Type, pt parcel.Type, out *sink) (fields []record.Field, at []int, err error) {
	there := c.env.Fit.Fields[t.Name]
	for i, field := range pt.Fields {
		j := record.FieldAt(there, field.Name)
		if j < 0 {
			if err := out.notCompared(ctx, t.Name+"."+field.Name, check.FieldOnOneSide(t.Name, field.Name, c.source, c.target)); err != nil {
				return nil, nil, err
			}
			continue
		}
		field.Required = there[j].Required
		field.Rule = t.Rules[field.Name]
		fields, at = append(fields, field), append(at, i)
	}
	for _, field := range there {
		if without := c.parcel.Manifest.Selection.NoFiles && field.Kind == record.Bytes; !without && record.FieldAt(pt.Fields, field.Name) < 0 {
			if err := out.notCompared(ctx, t.Name+"."+field.Name, check.FieldOnOneSide(t.Name, field.Name, c.target, "the parcel")); err != nil {
				return nil, nil, err
			}
		}
	}
	return fields, at, nil
}

// retired tells records that are out of use, where the catalog says how.
func retired(t *catalog.Type, fields []record.Field) func(record.Record) bool {
	at := record.FieldAt(fields, t.Retired.Field)
	if at < 0 {
		return nil
	}
	return func(rec record.Record) bool { return t.Retired.Is(rec.Values[at]) }
}

// oneSided names the record types that only the target's parcel holds.
func oneSided(ctx context.Context, c compared, out *sink) error {
	if c.against == nil {
		return nil
	}
	for _, pt := range c.against.Manifest.Types {
		if _, ok := c.parcel.Manifest.Type(pt.Name); ok {
			continue
		}
		if err := out.notCompared(ctx, pt.Name, check.NotInParcel(pt.Name, "parcel "+library.NameOf(c.parcel))); err != nil {
			return err
		}
	}
	return nil
}
