// Command evenledger turns sheets of people into accounts, and accounts for
// every row.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"evenledger/internal/cli"
)

func main() {
	tuneMemory()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// After the first signal the next one ends the program at once.
	context.AfterFunc(ctx, stop)
	os.Exit(cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// tuneMemory lets garbage wait: the program keeps little and makes much, so that
// collecting at every doubling of a few megabytes would take a quarter of its
// time. Near the limit it collects as often as usual. Who sets GOGC or GOMEMLIMIT
// decides instead.
func tuneMemory() {
	if os.Getenv("GOGC") == "" && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetGCPercent(400)
		debug.SetMemoryLimit(100 << 20)
	}
}
