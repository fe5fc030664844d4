package translate

import (
	"fmt"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Between what a column holds and the kinds in which both sides are compared, as far as
// that is the same in every engine: times that have a zone on one side only.

// decode brings what a column holds to a kind.
func (s *Translator) decode(m *environment.Model, of *catalog.Type, stored any, kind record.Kind, c catalog.Column) (record.Value, error) {
	natural := s.Natural(of, c)
	c.Kind = natural
	switch {
	case kind == record.Timestamp && natural == record.LocalTimestamp:
		v, err := ofValue(s.coder.Decode(stored, natural, c))
		if err != nil || v.IsNull() {
			return v, err
		}
		if m.Here == nil {
			return v, noZone(m.Environment, c)
		}
		return ofValue(v.AtZone(m.Here))
	case kind == record.LocalTimestamp && natural == record.Timestamp:
		v, err := ofValue(s.coder.Decode(stored, natural, c))
		if err != nil || v.IsNull() {
			return v, err
		}
		if m.There == nil {
			return v, noOtherZone(c)
		}
		return ofValue(v.InZone(m.There))
	default:
		return ofValue(s.coder.Decode(stored, kind, c))
	}
}

// ofValue makes an error one about a stored value.
func ofValue(v record.Value, err error) (record.Value, error) {
	if err != nil {
		return v, valueError{cause: err}
	}
	return v, nil
}

// Encode gives what to store in a column for a value that is no reference.
func (s *Translator) Encode(m *environment.Model, of *catalog.Type, v record.Value, c catalog.Column) (any, error) {
	natural := s.Natural(of, c)
	c.Kind = natural
	var err error
	switch {
	case v.Kind() == record.Timestamp && natural == record.LocalTimestamp:
		if m.Here == nil {
			return nil, noZone(m.Environment, c)
		}
		v, err = v.InZone(m.Here)
	case v.Kind() == record.LocalTimestamp && natural == record.Timestamp:
		if m.There == nil {
			return nil, noOtherZone(c)
		}
		v, err = v.AtZone(m.There)
	}
	if err != nil {
		return nil, err
	}
	return s.coder.Encode(v, c)
}

// Natural is the kind of what a column holds by itself. Where declared types are words
// only, what the catalog says of it counts.
func (s *Translator) Natural(of *catalog.Type, c catalog.Column) record.Kind {
	if kind, ok := of.As[c.Name]; ok && s.wordsOnly {
		return kind
	}
	return c.Kind
}

func noZone(environment string, c catalog.Column) error {
	return fmt.Errorf("%s keeps it without a zone (%s), and it is an instant on the other side or by as: in the catalog. Say with zone: of %s in anagram.yaml in which zone its times are, or leave the field out with ignore: in the catalog", environment, c.Declared, environment)
}

func noOtherZone(c catalog.Column) error {
	return fmt.Errorf("it is an instant here (%s), and the other side keeps it without a zone. Say with zone: of that environment in anagram.yaml in which zone its times are, or leave the field out with ignore: in the catalog", c.Declared)
}
