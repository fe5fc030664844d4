// Package decide writes decisions into dockets: those of a person, and those that carry over
// from earlier dockets of the same two environments. It shows findings with what stands in
// their way, and remembers which keys are one record.
package decide
