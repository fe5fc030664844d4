// Package tests says how much of what takes long tests do: enough to notice what is wrong, on
// every engine and in every variant as the gate does, or all of it.
package tests

import "os"

// Long says that what is long by nature is done as well, and in full: make long.
func Long() bool { return os.Getenv("ANAGRAM_TEST_LONG") != "" }

// Thorough says that each case is tried on every engine and in every variant, as in the gate
// and in the long run, and not on some of them.
func Thorough() bool { return Long() || os.Getenv("ANAGRAM_TEST_THOROUGH") != "" }

// Times gives how often something generated is tried: few times, or often where tests are
// thorough.
func Times(few, often int) int {
	if Thorough() {
		return often
	}
	return few
}
