package environment

import (
	"slices"
	"strings"
)

// Surroundings is what of the process around it a connector may ask: its working folder and
// its environment variables. They are handed in, never asked of the process, so that several
// runs of the program can share one. The zero Surroundings has nothing.
type Surroundings struct {
	Dir     string   // absolute
	Environ []string // NAME=value; of several the last counts, as in a process
}

// Lookup gives a variable, and whether it is set.
func (s Surroundings) Lookup(name string) (string, bool) {
	for _, entry := range slices.Backward(s.Environ) {
		if value, ok := strings.CutPrefix(entry, name+"="); ok {
			return value, true
		}
	}
	return "", false
}

// Get gives a variable, "" where it is not set.
func (s Surroundings) Get(name string) string {
	value, _ := s.Lookup(name)
	return value
}
