// Anagram brings setup records from one environment to another, reviewed.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // zones are known on machines that have none

	_ "anagram/cmd/anagram/memory"
	"anagram/internal/ui/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx)
	stop()
	os.Exit(code)
}
