// Package translate goes between what an environment stores and records: internal ids become keys
// and keys become rows, through any depth of references, a handful of lookups for a batch.
//
// The contract: it asks through a small interface (lookup) and knows no SQL. A reference to a
// record that is not there, or that a condition leaves out, is named and never guessed. What was
// found is remembered for some hundred thousand records, then forgotten.
//
// Where to look: translator.go is what is remembered; form.go lays out the columns of a type;
// value.go brings what is stored to values and stored.go back; keys.go goes from internal ids to
// keys, locate.go from keys to rows; coding.go brings times with and without a zone together.
package translate
