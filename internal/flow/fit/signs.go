package fit

import (
	"context"
	"fmt"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
)

// Signatures gives, of each record type whose stamps hold ids of people, the id of a person in an
// environment, as far as one is found. Signs is false where the environment cannot be asked, or
// stamps by itself.
func Signatures(ctx context.Context, env environment.Environment, places map[string]catalog.Place, m *environment.Model,
	name string) (ids map[string]string, signs bool, err error) {
	signer := env.Can().Signer
	if signer == nil {
		return nil, false, nil
	}
	ids = map[string]string{}
	for _, t := range m.Catalog.Types {
		people, there := places[t.StampPerson.At]
		_, hasID := people.Column(t.StampPerson.ID)
		_, hasName := people.Column(t.StampPerson.Name)
		if m.Shapes[t.Name] == nil || !there || !hasID || !hasName { // what is wrong with it, who needs it is told
			continue
		}
		id, err := signer.Person(ctx, m, t.Name, name)
		if err != nil {
			return nil, false, err
		}
		if id != "" {
			ids[t.Name] = id
		}
	}
	return ids, true, nil
}

// signing says of a type that an import by the person at work could not write who changed it, which
// matters for a target.
func signing(ctx context.Context, s *session.Session, env session.Described, m *environment.Model,
	t *catalog.Type) ([]catalog.Problem, error) {
	name, place, signer := m.Environment, env.About.Places[t.Place(m.Environment)], env.Can().Signer
	if e, err := s.Workspace.Environment(name); signer == nil || err == nil && e.NoImports || place.ReadOnly || place.CannotUpdate {
		return nil, nil
	}
	id, err := signer.Person(ctx, m, t.Name, s.Who)
	if err != nil {
		return nil, err
	}
	column, _, bad := t.Unsigned(place, name, t.Signature(s.Who, map[string]string{t.Name: id}), false)
	if !bad {
		return nil, nil
	}
	return []catalog.Problem{{Type: t.Name, Line: t.Line("stamp"), Caution: true, Message: fmt.Sprintf(
		"an import by %s could not write into %s who changed a record, and would not write it; name the account that stands for imports, account: {%s: …}, or say write: never",
		s.Who, column, name)}}, nil
}
