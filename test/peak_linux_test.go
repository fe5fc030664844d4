package test

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"time"
)

// watchPeak looks at the most memory of a running process until the returned function is
// called, which gives it in bytes. What the system counts for a finished child (ru_maxrss)
// begins with the memory of the process that started it, here of the tests and of the
// services that run within them, so it says nothing about the program.
func watchPeak(pid int) func() int64 {
	done, peak := make(chan struct{}), make(chan int64)
	go func() {
		most := int64(0)
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for {
			most = max(most, highWater(pid))
			select {
			case <-tick.C:
			case <-done:
				peak <- most
				return
			}
		}
	}()
	return func() int64 {
		close(done)
		return <-peak
	}
}

// highWater reads VmHWM, in bytes; 0 for a process that has ended.
func highWater(pid int) int64 {
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	_, rest, _ := bytes.Cut(status, []byte("VmHWM:"))
	line, _, _ := bytes.Cut(rest, []byte("kB"))
	kilobytes, _ := strconv.ParseInt(string(bytes.TrimSpace(line)), 10, 64)
	return kilobytes << 10
}
