// Command evenledger turns sheets of people into accounts, and accounts for
// every row.
package main

import (
	"context"
	"io"
	"log"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"evenledger/internal/cli"
)

// garbage is how much memory, in percent of what is in use, is filled before it is tidied: sheets of any size stream, so that what is
// in use is little, and more room would only be filled.
const garbage = 60

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbage)
	}
	log.SetOutput(io.Discard) // libraries talk of connections there; the program has words of its own
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// After the first signal the next one ends the program at once.
	context.AfterFunc(ctx, stop)
	os.Exit(cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
