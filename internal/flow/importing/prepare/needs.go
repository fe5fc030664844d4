package prepare

import (
	"context"
	"fmt"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// checkReferences finds records that refer to something the target had when it was
// matched and no longer has.
func checkReferences(ctx context.Context, r Ready, target environment.Reader, rest Rest) (Rest, error) {
	pending := map[int64]*standing.Approval{}
	for _, a := range r.Standing.Approved {
		if !rest.Skips(a) {
			pending[a.ID] = a
		}
	}
	found := NewRest()
	byType := map[string][]docket.Need{}
	look := func(typ string) error {
		needs := byType[typ]
		delete(byType, typ)
		keys := make([]record.Key, len(needs))
		for i, n := range needs {
			var err error
			if keys[i], err = r.Model.Shapes.ParseKey([]byte(n.Key), typ); err != nil {
				return err
			}
		}
		counts, err := target.Locate(ctx, r.Model, typ, keys)
		if err != nil {
			return err
		}
		for i, n := range needs {
			a := pending[n.Holder]
			if _, left := found.Left[a.ID]; counts[i] != 1 && !left {
				found.Leave(a, MovedSinceMatch,
					fmt.Sprintf("%s was not imported: it refers to %s (field %s), which was in %s when it was matched and is no longer there. %s to see it as it is now.",
						a.Address, n.Address, n.Field, r.Model.Environment, r.Docket.Header.Again()))
			}
		}
		return nil
	}
	for n, err := range r.Docket.Found.Needs(ctx, true) {
		if err != nil {
			return found, err
		}
		a := pending[n.Holder]
		if a == nil || n.InTarget != 1 || !a.Writes(n.Field) {
			continue
		}
		byType[n.Type] = append(byType[n.Type], n)
		if len(byType[n.Type]) == ReadBatch {
			if err := look(n.Type); err != nil {
				return found, err
			}
		}
	}
	for typ := range byType {
		if err := look(typ); err != nil {
			return found, err
		}
	}
	return found, nil
}

// dependents finds what depends on a record that is left out.
func dependents(r Ready, rest Rest) Rest {
	byID := map[int64]*standing.Approval{}
	var candidates []check.Candidate
	for _, a := range r.Standing.Approved {
		byID[a.ID] = a
		if rest.Already[a.ID] {
			continue
		}
		c := check.Candidate{ID: a.ID, Blocked: rest.Left[a.ID].Why}
		for _, n := range a.Needs {
			if n.Finding != 0 && !rest.Already[n.Finding] {
				c.Needs = append(c.Needs, n.Finding)
			}
		}
		for _, id := range a.After {
			if !rest.Already[id] {
				c.Needs = append(c.Needs, id)
			}
		}
		candidates = append(candidates, c)
	}
	found := NewRest()
	for id, because := range check.Standing(candidates) {
		a, needed := byID[id], byID[because]
		if _, left := rest.Left[id]; !left && needed != nil {
			found.Leave(a, DependsOnLeft, fmt.Sprintf("%s was not imported: it needs %s, which was left out itself.", a.Address,
				needed.Address))
		}
	}
	return found
}
