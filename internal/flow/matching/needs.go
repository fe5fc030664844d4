package matching

import (
	"context"
	"fmt"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/flow/fit"
	"anagram/internal/store/docket"
)

// needsBatch is how many keys are looked up in the target at a time.
const needsBatch = 2000

// checkFit compares releases and the settings that have to be equal.
func checkFit(ctx context.Context, c compared, out *sink) error {
	p := c.parcel.Manifest
	var target fit.Side
	policy := ""
	if c.against != nil {
		target = fit.Side{Name: c.target, Release: c.against.Manifest.Release, Settings: c.against.Manifest.Settings}
	} else {
		e, err := c.session.Workspace.Environment(c.target)
		if err != nil {
			return err
		}
		policy = e.Guard.Release
		if target, err = fit.SideOf(ctx, c.session, fit.Of(c.env), c.catalog, c.target); err != nil {
			return err
		}
	}
	for _, found := range fit.Checks(c.session, fit.Side{Name: p.Source, Release: p.Release, Settings: p.Settings}, target, policy) {
		out.onDocket(found)
	}
	return out.err
}

// resolveNeeds looks up in the target what the findings refer to, and checks what
// neither the target nor this docket has.
func resolveNeeds(ctx context.Context, c compared, out *sink) error {
	types, err := out.builder.WantedTypes(ctx)
	if err != nil {
		return err
	}
	for _, typ := range types {
		t, ok := c.catalog.Type(typ)
		if !ok {
			continue
		}
		if _, there := c.env.About.Places[t.Place(c.target)]; !there {
			continue
		}
		if err := locateWanted(ctx, c, typ, out); err != nil {
			return err
		}
	}
	return out.builder.LinkNeeds(ctx, func(n docket.Need) error {
		if found, bad := check.Reference(out.addressOf(n.Holder), n.Need, c.target, c.number); bad {
			out.check(n.Holder, found)
		}
		return out.err
	})
}

func locateWanted(ctx context.Context, c compared, typ string, out *sink) error {
	for after := ""; ; {
		wanted, err := out.builder.WantedKeys(ctx, typ, after, needsBatch)
		if err != nil {
			return err
		}
		keys := make([]record.Key, len(wanted))
		for i, w := range wanted {
			if keys[i], err = c.model.Shapes.ParseKey([]byte(w.Key), typ); err != nil {
				return fmt.Errorf("a reference to %s: %w", typ, err)
			}
		}
		counts, err := c.reader.Locate(ctx, c.model, typ, keys)
		if err != nil {
			return err
		}
		for i, n := range counts {
			if n > 0 {
				out.does(func() error { return out.builder.Located(ctx, typ, wanted[i].Order, n) })
			}
		}
		if len(wanted) < needsBatch || out.err != nil {
			return out.err
		}
		after = wanted[len(wanted)-1].Order
	}
}
