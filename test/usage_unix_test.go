package test

import (
	"os"
	"runtime"
	"syscall"
)

// used gives the most memory that a finished process held, in bytes, and its processor
// time in seconds.
func used(state *os.ProcessState) (peak int64, seconds float64) {
	usage, ok := state.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0, 0
	}
	peak = usage.Maxrss
	if runtime.GOOS != "darwin" { // elsewhere it is counted in kilobytes
		peak *= 1024
	}
	return peak, (state.UserTime() + state.SystemTime()).Seconds()
}
