package choose

import (
	"context"
	"errors"
	"path"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
)

// typesNamed puts the types that patterns such as price_* name in their place, in the
// catalog's order.
func typesNamed(c *catalog.Catalog, names []string) ([]string, error) {
	var out []string
	for _, name := range names {
		if !record.HasStar(name) {
			out = append(out, name)
			continue
		}
		fits := 0
		for _, typ := range c.Names() {
			if ok, err := path.Match(name, typ); err == nil && ok {
				fits++
				if !slices.Contains(out, typ) {
					out = append(out, typ)
				}
			}
		}
		if fits == 0 {
			return nil, session.Usage("No record type of the catalog fits %q%s", name, yamldoc.Nearest(name, c.Names()))
		}
	}
	return out, nil
}

var errEnough = errors.New("enough was seen")

// mostNear is how many records are looked at for the address that somebody may have meant.
const mostNear = 20_000

// nearest gives "; did you mean …?" with the address in an environment that is most like one
// that is not there.
func (g *Related) nearest(ctx context.Context, p record.Pattern) string {
	if !p.Exact() || g.Env.Fit.Fields[p.Type()] == nil {
		return ""
	}
	var known []string
	for rec, err := range g.Env.Read(ctx, g.Model, environment.Reading{Type: p.Type(), Fields: nil}) {
		if err == nil && len(known) >= mostNear {
			err = errEnough
		}
		if err != nil {
			break
		}
		known = append(known, g.Model.Catalog.Address(p.Type(), rec.Key))
	}
	return yamldoc.Likest(p.String(), known)
}

// LeftNothing names the patterns of what is to be left out that no record fits.
func (s Chosen) LeftNothing(c *catalog.Catalog) (out []string) {
	for i, p := range s.LeaveOut {
		whole := slices.ContainsFunc(c.Names(), p.WholeType)
		if !s.left[i] && !whole {
			out = append(out, p.String())
		}
	}
	return out
}
