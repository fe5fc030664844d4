// Package memory says how much memory the program takes before it is cleaned up. It is in force
// from the start on: packages are set up in the order of their paths where nothing else binds
// them (the language's "Package initialization"), and this one needs little, so that what the
// others set up is not cleaned up halfway.
package memory

import (
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// Records are streamed, so that little is held. As long as that is so, memory is cleaned up
// less often than usual, which saves a tenth of the time of an export; where more is held, as for
// very many approvals, more often, so that the whole stays small.
const (
	usualPercent = 200       // of what is held, that may be allocated before memory is cleaned up
	roomBytes    = 136 << 20 // that all of it should take
	lookEvery    = 100 * time.Millisecond
)

// limitFor is what all memory should take while so many bytes are held: cleaning up again and
// again would help nobody where that is more than there is room for.
func limitFor(held uint64) int64 { return max(roomBytes, int64(held)/5*8) }

func init() {
	if os.Getenv("GOGC") != "" || os.Getenv("GOMEMLIMIT") != "" {
		return // the environment says how it is to be done
	}
	debug.SetGCPercent(usualPercent)
	debug.SetMemoryLimit(roomBytes)
	go func() {
		sample, was := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}, int64(roomBytes)
		for range time.Tick(lookEvery) {
			metrics.Read(sample)
			if now := limitFor(sample[0].Value.Uint64()); now != was {
				debug.SetMemoryLimit(now)
				was = now
			}
		}
	}()
}
