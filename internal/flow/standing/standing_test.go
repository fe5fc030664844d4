package standing

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
)

var twoFields = []record.Field{{Name: "x", Kind: record.Text}, {Name: "y", Kind: record.Text}}

func textKey(s string) record.Key {
	v, err := record.TextValue(s)
	if err != nil {
		panic(err)
	}
	return record.NewKey([]record.Value{v}, nil)
}

// fieldsMoved makes fields of a finding as they moved: "price:source".
func fieldsMoved(words ...string) []docket.Field {
	var out []docket.Field
	for _, w := range words {
		name, moved, _ := strings.Cut(w, ":")
		out = append(out, docket.Field{Field: name, Moved: moved})
	}
	return out
}

// newcomer is a finding of a docket that is made for a test: a record that is new, or
// with another status.
type newcomer struct {
	name   string
	status match.Status // "" is new
	fields []docket.Field
	needs  []docket.Need // by Address alone
	checks []check.On
	claims []docket.Claim
}

const standingCatalog = "types:\n  u: {key: [code]}\n"

// docketOf makes a docket of findings of one type, u, whose x is required.
func docketOf(t *testing.T, findings ...newcomer) *docket.Docket {
	t.Helper()
	ctx := context.Background()
	dir := t.TempDir()
	b, err := build.Create(ctx, dir)
	require.NoError(t, err)
	defer b.Discard()
	for i, f := range findings {
		if f.status == "" {
			f.status = match.New
		}
		if f.fields == nil {
			f.fields = fieldsMoved("x:source", "y:source")
		}
		target := "{}"
		if f.status == match.New {
			target = ""
		}
		id, err := b.Finding(ctx, docket.Finding{Type: "u", Address: "u/" + f.name, Status: f.status, Fields: f.fields,
			Order: textKey(f.name).Order(), Key: `["` + f.name + `"]`, Source: "{}", Target: target})
		require.NoError(t, err)
		require.EqualValues(t, i+1, id)
		for _, n := range f.needs {
			n.Holder, n.Type, n.Key = id, "u", `["`+n.Address+`"]`
			key := textKey(n.Address)
			n.Address = "u/" + n.Address
			require.NoError(t, b.Need(ctx, n, key))
		}
		for _, c := range f.checks {
			require.NoError(t, b.Check(ctx, id, c))
		}
		for _, c := range f.claims {
			c.Finding, c.Type = id, "u"
			require.NoError(t, b.Claim(ctx, c))
		}
	}
	require.NoError(t, b.LinkNeeds(ctx, func(docket.Need) error { return nil }))
	_, err = b.LinkClaims(ctx)
	require.NoError(t, err)
	require.NoError(t, b.Type(ctx, docket.Type{Name: "u", Fields: twoFields, Required: []string{"x"}, Counts: map[match.Status]int{}}))
	path := filepath.Join(dir, "0001.docket")
	_, err = b.Finish(ctx, path, docket.Header{Number: 1, Target: "production", Keys: record.Shapes{"u": {{Name: "code",
		Kind: record.Text}}}}, []byte(standingCatalog), nil)
	require.NoError(t, err)
	d, err := docket.Open(ctx, path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

// need is a reference through a field to another finding of the docket.
func need(field, to string) docket.Need {
	return docket.Need{Need: check.Need{Field: field, Address: to}}
}

func byName(field, to string) docket.Need {
	n := need(field, to)
	n.ByName, n.Required = true, true
	return n
}

func decideAll(t *testing.T, d *docket.Docket, decision decision.Decision, at ...string) {
	t.Helper()
	var verdicts []docket.Verdict
	for f, err := range d.Found.Findings(context.Background(), docket.Filter{}) {
		require.NoError(t, err)
		for _, a := range at {
			name, field := a, ""
			if i := slices.Index([]byte(a), '.'); i >= 0 {
				name, field = a[:i], a[i+1:]
			}
			if f.Address == "u/"+name {
				verdicts = append(verdicts, docket.Verdict{Finding: f.ID, Field: field, Decision: decision})
			}
		}
	}
	require.Len(t, verdicts, len(at))
	require.NoError(t, d.Decide(context.Background(), "mara", "", time.Now(), verdicts))
}

// blockedIn gives the codes of what stands in the way, by address.
func blockedIn(t *testing.T, d *docket.Docket) map[string][]string {
	t.Helper()
	s, err := Read(context.Background(), d, Demand{})
	require.NoError(t, err)
	out := map[string][]string{}
	for _, a := range s.Approved {
		out[a.Address] = []string{}
		for _, c := range s.Blocked[a.ID] {
			out[a.Address] = append(out[a.Address], string(c.Code))
		}
	}
	return out
}

func TestACircleOfNewRecordsStandsOnlyAsAWhole(t *testing.T) {
	d := docketOf(t, newcomer{name: "A", needs: []docket.Need{need("y", "B")}}, newcomer{name: "B",
		needs: []docket.Need{need("y", "C")}}, newcomer{name: "C", needs: []docket.Need{need("y", "A")}})
	decideAll(t, d, decision.Approved, "A", "B")
	assert.Equal(t, map[string][]string{"u/A": {"reference-not-approved"}, "u/B": {"reference-not-approved"}}, blockedIn(t, d),
		"C is missing, so B falls and A with it")
	decideAll(t, d, decision.Approved, "C")
	assert.Equal(t, map[string][]string{"u/A": {}, "u/B": {}, "u/C": {}}, blockedIn(t, d))
	decideAll(t, d, decision.Declined, "A.y")
	decideAll(t, d, decision.Declined, "C")
	assert.Equal(t, map[string][]string{"u/A": {}, "u/B": {"reference-not-approved"}}, blockedIn(t, d),
		"a reference that is not written needs nothing")
}

func TestAnOwnerIsNamedAsSuch(t *testing.T) {
	owner := need("y", "A")
	owner.Owner = true
	d := docketOf(t, newcomer{name: "A"}, newcomer{name: "B", needs: []docket.Need{owner}})
	decideAll(t, d, decision.Approved, "B")
	assert.Equal(t, map[string][]string{"u/B": {"owner-not-approved"}}, blockedIn(t, d))
}

func TestWhatStoresAKeyWaitsForTheKeyToChange(t *testing.T) {
	renamed := newcomer{name: "A", status: match.Changed, fields: fieldsMoved("code:source", "x:source")}
	d := docketOf(t, renamed, newcomer{name: "B", status: match.Changed, needs: []docket.Need{byName("x", "A")}})
	decideAll(t, d, decision.Approved, "B")
	assert.Equal(t, []string{"reference-not-approved"}, blockedIn(t, d)["u/B"], "the record that gets the key is not approved")
	decideAll(t, d, decision.Approved, "A.x")
	assert.Equal(t, []string{"reference-not-approved"}, blockedIn(t, d)["u/B"], "it is approved, but not with its key")
	decideAll(t, d, decision.Approved, "A")
	assert.Equal(t, map[string][]string{"u/A": {}, "u/B": {}}, blockedIn(t, d))
}

func TestAValueIsHandedOnOnlyOnceItIsGivenUp(t *testing.T) {
	claim := func(wants, heldBy string, writes ...string) docket.Claim {
		c := docket.Claim{Writes: writes, Proposed: len(writes) > 0}
		c.Fields = []string{"x"}
		c.Values = wants
		if heldBy != "" {
			c.HeldBy, c.Order = "u/"+heldBy, textKey(heldBy).Order()
		}
		return c
	}
	holder := newcomer{name: "A", status: match.Changed, fields: fieldsMoved("x:source"), claims: []docket.Claim{claim("v2", "",
		"x"), claim("v1", "")}}
	taker := newcomer{name: "B", claims: []docket.Claim{claim("v1", "A", "x")}}
	d := docketOf(t, holder, taker)
	decideAll(t, d, decision.Approved, "B")
	assert.Equal(t, map[string][]string{"u/B": {"value-taken"}}, blockedIn(t, d))
	decideAll(t, d, decision.Approved, "A")
	assert.Equal(t, map[string][]string{"u/A": {}, "u/B": {}}, blockedIn(t, d))
	s, err := Read(context.Background(), d, Demand{})
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, s.Approved[1].After, "B is written after A")
}

func TestWhatGivesAValueUpAndFallsTakesTheOtherWithIt(t *testing.T) {
	broken := check.On{Check: check.Check{Code: check.ValueDoesNotFit, Level: check.Blocker, Message: "m", Mend: "n"}}
	holder := newcomer{name: "A", status: match.Changed, fields: fieldsMoved("x:source"), checks: []check.On{broken}}
	var give, keep, take docket.Claim
	give.Fields, give.Values, give.Writes, give.Proposed = []string{"x"}, "v2", []string{"x"}, true
	keep.Fields, keep.Values, keep.Writes = []string{"x"}, "v1", []string{}
	take.Fields, take.Values, take.Writes, take.Proposed = []string{"x"}, "v1", []string{"x"}, true
	take.HeldBy, take.Order = "u/A", textKey("A").Order()
	holder.claims = []docket.Claim{give, keep}
	d := docketOf(t, holder, newcomer{name: "B", claims: []docket.Claim{take}})
	decideAll(t, d, decision.Approved, "A", "B")
	assert.Equal(t, map[string][]string{"u/A": {"value-does-not-fit"}, "u/B": {"value-taken"}}, blockedIn(t, d))
}

func TestAFieldThatANewRecordMustHaveCannotBeDeclined(t *testing.T) {
	d := docketOf(t, newcomer{name: "A"})
	decideAll(t, d, decision.Approved, "A")
	decideAll(t, d, decision.Declined, "A.y")
	assert.Equal(t, map[string][]string{"u/A": {}}, blockedIn(t, d), "y may be left out")
	decideAll(t, d, decision.Held, "A.x")
	assert.Equal(t, map[string][]string{"u/A": {"value-does-not-fit"}}, blockedIn(t, d))
}

func TestABlockerOfAFieldThatIsNotWrittenDoesNotCount(t *testing.T) {
	onX := check.On{Check: check.Check{Code: check.ValueDoesNotFit, Level: check.Blocker, Message: "m", Mend: "n"},
		Fields: []string{"x"}, Writes: []string{"x"}}
	caution := check.On{Check: check.Check{Code: check.LooksRenamed, Level: check.Caution, Message: "m", Mend: "n"}}
	d := docketOf(t, newcomer{name: "A", status: match.Changed, checks: []check.On{onX, caution}})
	decideAll(t, d, decision.Approved, "A")
	assert.Equal(t, map[string][]string{"u/A": {"value-does-not-fit"}}, blockedIn(t, d))
	decideAll(t, d, decision.Declined, "A.x")
	assert.Equal(t, map[string][]string{"u/A": {}}, blockedIn(t, d))
}
