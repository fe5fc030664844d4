package matching

import (
	"fmt"

	"anagram/internal/core/catalog"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
)

// What may be compared at all.

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
			return &parcel.Error{Parcel: p.Path(), File: "parcel.json",
				Message: fmt.Sprintf("it holds records of %q, which its own catalog does not describe", pt.Name)}
		}
		if _, here := c.Type(pt.Name); !here && back != nil {
			return session.Usage("Docket %d brought records of %s, which %s does not describe. %s", back.Docket, pt.Name, name, mend)
		} else if !here {
			return session.Usage("The parcel holds records of %s, which %s does not describe%s Describe it, or export without it",
				pt.Name, name, orEnd(yamldoc.Nearest(pt.Name, c.Names())))
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
