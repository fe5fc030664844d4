// Package wire has what commands print with --json: one struct for each output.
//
// The contract: names are only added within a version, and mean what they meant. The members of a
// struct stand in the order in which they are printed. docs/schemas is made from these structs, and
// a test holds the two equal: what may be one of a few words has them in the tag one.
package wire

// Check is a blocker or a caution.
type Check struct {
	Code    string `json:"code"`
	Level   string `json:"level" one:"blocker,caution"`
	Message string `json:"message"`
	Mend    string `json:"mend"`
}
