// Command evenledger turns sheets of people into accounts, and accounts for
// every row.
package main

import (
	"context"
	"io"
	"log"
	"os"
	"os/signal"
	"syscall"

	"evenledger/internal/cli"
)

func main() {
	log.SetOutput(io.Discard) // libraries talk of connections there; the program has words of its own
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// After the first signal the next one ends the program at once.
	context.AfterFunc(ctx, stop)
	os.Exit(cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
