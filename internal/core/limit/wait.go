package limit

import (
	"context"
	"time"
)

type shorter struct{}

// Hurried gives a context under which everybody who waits for somebody else, such as for a
// lock or for a server that does not answer, waits only one part in so many of what is usual.
// It is for whoever cannot wait that long, and for tests.
func Hurried(ctx context.Context, parts int) context.Context {
	return context.WithValue(ctx, shorter{}, parts)
}

// Wait gives how long to wait under a context for what usually is waited for so long.
func Wait(ctx context.Context, usual time.Duration) time.Duration {
	if parts, ok := ctx.Value(shorter{}).(int); ok && parts > 1 {
		return usual / time.Duration(parts)
	}
	return usual
}
