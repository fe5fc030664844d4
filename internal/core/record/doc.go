// Package record holds values, records, keys and addresses, and the one
// canonical form that all of them have.
//
// The contract: a Value is made only by the constructors here, which bring what
// an engine or a file delivered to one form (a decimal without trailing zeros,
// an instant in UTC, JSON with its members in order) or refuse it with an error
// that says why. Two values of a kind are the same exactly when Equal says so;
// nothing is rounded, cut or guessed. Keys carry an order form: bytes whose
// comparison is the order of the keys, which every stream of records in Anagram
// follows (null first, numbers by value, text by its UTF-8 bytes, times by time).
//
// Values and keys are immutable and may be shared between goroutines.
package record
