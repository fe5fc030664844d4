package fit

import (
	"context"

	"anagram/internal/environment"
)

// Signatures gives, of each record type whose stamps hold ids of people, the id of a person in an
// environment, as far as one is found. Signs is false where the environment cannot be asked, or
// stamps by itself.
func Signatures(ctx context.Context, env environment.Environment, m *environment.Model,
	name string) (ids map[string]string, signs bool, err error) {
	signer := env.Can().Signer
	if signer == nil {
		return nil, false, nil
	}
	ids = map[string]string{}
	for _, t := range m.Catalog.Types {
		if t.StampPerson.At == "" || m.Shapes[t.Name] == nil {
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
