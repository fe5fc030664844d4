package record

import (
	"crypto/sha256"
	"encoding/hex"
	"iter"
	"slices"
)

// Field describes one field of a stream of records.
type Field struct {
	Name   string `json:"name"`
	Kind   Kind   `json:"kind"`
	Refers string `json:"refers,omitempty"` // of a reference: the record type it points at
	// Among lists the record types that a reference may point at where it is not always
	// the same one, and those that a woven text refers to.
	Among []string `json:"among,omitempty"`
	Rule  Rule     `json:"rule,omitzero"`
	// Required says that the environment refuses null here. It is a fact about one
	// environment and does not travel.
	Required bool `json:"-"`
}

// Same reports whether two values of the field are the same under its rule.
func (f Field) Same(a, b Value) bool {
	return a.Equal(b) || f.Rule.Form(a).Equal(f.Rule.Form(b))
}

// Sum tells values of the field apart: those that are the same have the same sum, 16
// digits of the SHA-256 of what a record line has for them.
func (f Field) Sum(v Value) string {
	sum := sha256.Sum256(AppendValue(nil, f.Rule.Form(v)))
	return hex.EncodeToString(sum[:8])
}

// Shapes gives for each record type the fields of its key, in key order.
type Shapes map[string][]Field

// Key makes a key of a type from its parts, under the rules of its fields.
func (s Shapes) Key(typ string, parts []Value) Key {
	fields := s[typ]
	rules := make([]Rule, len(fields))
	for i, field := range fields {
		rules[i] = field.Rule
	}
	return NewKey(parts, rules)
}

// Record is one record of a stream whose fields are known.
type Record struct {
	Key       Key
	Values    []Value // one for each field of the stream, in its order
	ID        string  // internal id, for messages about one environment only
	ChangedAt string  // stamp, as the environment tells it; "" where there is none
	ChangedBy string
	Came      // in a parcel
	// Was is the key under which the record stands where it was read, if that is not Key
	// itself, as a person said that both are one record; else nil.
	Was *Key
	// Kept is what a reading for an import has beside the fields; else nil.
	Kept *Kept

	// Line, where it is given, is the canonical line of key and values alone. Two
	// records with the same line are the same, which saves reading one of them.
	Line []byte
	// Load completes a record of which so far only the order of its key and Line are
	// there; nil where the record is complete.
	Load func(*Record) error
}

// Came tells of a record in a parcel why it is there.
type Came struct {
	Why     string // chosen, or along
	Through string // of a record that came along: what it came through
}

// Kept is what a row holds beside the fields that are compared: it tells whether a record
// changed between two readings of one environment, and how to put it back as it was.
type Kept struct {
	// Sums are of the columns that were asked for, in their order.
	Sums []string `json:"sums"`
	// Stored has, by field, what is stored where a connector would write the same value in
	// another form: of references that point nowhere, of texts that are dates or JSON.
	Stored map[string]Stored `json:"stored,omitempty"`
}

// Stored is a value as an environment itself keeps it.
type Stored struct {
	Kind string `json:"kind"` // text, whole, real, bytes (hexadecimal) or null
	Text string `json:"text"`
}

// Beside gives what a row holds beside the fields, nothing where nobody asked for it.
func (r Record) Beside() Kept {
	if r.Kept == nil {
		return Kept{}
	}
	return *r.Kept
}

// Stands gives the key under which the record stands where it was read.
func (r Record) Stands() Key {
	if r.Was != nil {
		return *r.Was
	}
	return r.Key
}

// Stream gives records one after the other. The first error ends it.
type Stream = iter.Seq2[Record, error]

// FieldAt gives the position of a field, -1 where there is none of that name.
func FieldAt(fields []Field, name string) int {
	return slices.IndexFunc(fields, func(f Field) bool { return f.Name == name })
}
