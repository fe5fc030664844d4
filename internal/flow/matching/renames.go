package matching

import (
	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/pairing"
	"anagram/internal/core/rename"
)

// renames collects the records of a type that only one side has, while there are few
// enough of them to be looked at.
type renames struct {
	typ    string
	finder rename.Finder
	list   map[int64]finding
}

// mostRenames is up to how many records that only one side has are compared with each
// other; a type that is new as a whole was not renamed.
const mostRenames = 20_000

// likelyNames is what looks paired so far, over all types.
type likelyNames struct{ *pairing.Names }

func newLikely(c compared) *likelyNames { return &likelyNames{pairing.New(c.catalog, c.model.Shapes)} }

func newRenames(c compared, t *catalog.Type) *renames {
	if t.Link() || c.back != nil {
		return nil
	}
	return &renames{typ: t.Name, list: map[int64]finding{}}
}

func (r *renames) note(f finding) {
	if r == nil || len(r.list) > mostRenames {
		return
	}
	switch f.Found.Status {
	case match.New:
		r.finder.Source(f.id, f.Found.Source.Values)
	case match.TargetOnly:
		r.finder.Target(f.id, f.Found.Target.Values)
	default:
		return
	}
	r.list[f.id] = f
}

// tell points at each other what is probably one record. What only has such a record in
// its key is not pointed at: it follows once that one is paired.
func (r *renames) tell(c compared, likely *likelyNames, out *sink) {
	if r == nil || len(r.list) > mostRenames {
		return
	}
	pairs := r.finder.Likely()
	for _, p := range pairs {
		likely.Add(r.typ, r.list[p.Target].Found.Key, r.list[p.Source].Found.Key)
	}
	for _, p := range pairs {
		source, target := r.list[p.Source], r.list[p.Target]
		if likely.TargetParts(r.typ, source.Found.Key).Order() == target.Found.Key.Order() {
			continue
		}
		out.builder.LooksLike(p.Source, p.Target)
		out.check(p.Source, check.Renamed(source.Address, target.Address, c.source, c.target, p.Fields, p.Of, true))
		out.check(p.Target, check.Renamed(target.Address, source.Address, c.source, c.target, p.Fields, p.Of, false))
	}
}
