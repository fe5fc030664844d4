package matching

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
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
	First                *First // nil where something was known of both sides, or they do not differ
}

// First says that nothing was known of both sides before, so that nobody can tell who changed what.
type First struct {
	Same   int       // records that are the same
	Latest time.Time // the latest stamp that such records have in common, zero for none
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
	// Aside is a file that the docket goes to, to be looked at: it is none of the workspace's, and
	// nothing is remembered or carried over. "" makes one of the workspace.
	Aside string
	// Back says that the match is there to take an import back; nil is any other.
	Back *Back
}

// Match compares a parcel with an environment and makes a docket of what differs.
func Match(ctx context.Context, s *session.Session, r Request) (Result, error) {
	if err := decide.KnownRules(s); err != nil {
		return Result{}, err
	}
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
	late := later{likely: newLikely(c), created: map[string][]created{}}
	for _, t := range c.catalog.Types {
		if pt, ok := c.parcel.Manifest.Type(t.Name); ok {
			if late, err = matchType(ctx, c, t, pt, late, out); err != nil {
				return result, false, err
			}
		}
	}
	if err := afterwards(ctx, c, late, out); err != nil {
		return result, false, err
	}
	if err := out.builder.Group(ctx, c.against == nil); err != nil {
		return result, false, err
	}
	header, err := c.header(out)
	if err != nil {
		return result, false, err
	}
	if r.Aside != "" {
		_, err := out.builder.Finish(ctx, r.Aside, header, c.catalog.Source, func(string) error { return nil })
		return Result{Header: header}, false, err
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
	taken, err = out.builder.Finish(ctx, filepath.Join(dockets, fmt.Sprintf("%04d.docket", c.number)), header, c.catalog.Source,
		func(digest string) error {
			return register.Add(s.Workspace, c.number, digest)
		})
	if err != nil || taken {
		return result, taken, err
	}
	// From here on the docket stands; what fails now is told beside it.
	result = Result{Header: header, Types: out.types, Blockers: out.blockers, Cautions: out.cautions, Docket: out.whole}
	return told(ctx, s, c, result), false, ctx.Err()
}

// first says what of a first match is to be told, nil for nothing.
func (c compared) first(result Result) *First {
	shared, first := c.remembers.First()
	differ := 0
	for _, t := range result.Types {
		differ += t.Counts[match.Changed] + t.Counts[match.Conflict]
	}
	if !first || c.copied != nil || differ == 0 {
		return nil
	}
	at, _ := known.Moment(shared.Stamp, c.model.There)
	return &First{Same: shared.Records, Latest: at}
}

// told completes what a match found with what is done once its docket stands.
func told(ctx context.Context, s *session.Session, c compared, result Result) Result {
	header := result.Header
	if c.remembers != nil {
		result.First = c.first(result)
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
			out.onDocket(check.MovedTarget(c.target, c.back.Docket, c.back.Address, now))
		}
		if len(c.back.Left) > 0 {
			out.onDocket(check.Left(c.back.Docket, c.back.Left))
		}
		return out.err
	}
	if c.against == nil {
		before, err := c.session.OtherWay(ctx, c.source, c.target)
		if err != nil {
			return err
		}
		if before != 0 {
			out.onDocket(check.Direction(c.source, c.target, c.number, before))
		}
	}
	if err := checkFit(ctx, c, out); err != nil {
		return err
	}
	if err := checkTimes(ctx, c, r.Fresh, out); err != nil {
		return err
	}
	checkAgreed(c, out)
	return out.err
}

// later is what types leave to be looked at once all of them were compared.
type later struct {
	likely  *likelyNames
	outside []heldOutside
	created map[string][]created // by type: made by the import that is taken back
}

// afterwards checks what shows only once all types were compared.
func afterwards(ctx context.Context, c compared, late later, out *sink) error {
	oneSided(c, out)
	if out.err != nil || c.against != nil { // into a parcel nothing will be imported
		return out.err
	}
	holdOutside(late.outside, out)
	if err := referrers(ctx, c, late.created, out); err != nil {
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
