// Package engines is the table of the engines that a ledger can lie in: an address picks one.
package engines

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"evenledger/internal/pgdial"
	"evenledger/internal/store"
	"evenledger/internal/store/postgres"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/told"
)

// An engine is one that a ledger can lie in: a further one is a line of engines.
type engine struct {
	shared  bool                      // on a server, and not in a file
	is      func(address string) bool // whether an address is of one
	open    func(ctx context.Context, address string, toRead bool) (store.Store, error)
	trouble func(error) Trouble // None: it is not the engine's
}

// engines lists those there are: the first is meant whose an address is.
func engines() []engine {
	return []engine{
		{shared: true, is: pgdial.Is, open: openPostgres, trouble: func(err error) Trouble {
			switch {
			case postgres.IsFull(err):
				return Full
			case postgres.IsTurnedAway(err), postgres.IsAway(err):
				return Away
			}
			return None
		}},
		{is: func(string) bool { return true }, open: openFile, trouble: func(err error) Trouble {
			switch {
			case sqlite.IsBusy(err):
				return Busy
			case sqlite.IsDamaged(err):
				return Damaged
			case sqlite.IsFull(err):
				return Full
			}
			return None
		}},
	}
}

// of is the engine that an address is of.
func of(address string) engine {
	all := engines()
	return all[slices.IndexFunc(all, func(e engine) bool { return e.is(address) })]
}

// IsShared reports whether an address is that of a ledger on a server, and not a file.
func IsShared(address string) bool { return of(address).shared }

// Open opens the ledger at an address, or in a file, and makes it if there is none. For reading
// alone, a file that cannot be written to will do.
func Open(ctx context.Context, address string, toRead bool) (store.Store, error) {
	return of(address).open(ctx, address, toRead)
}

func openPostgres(ctx context.Context, address string, _ bool) (store.Store, error) {
	l, err := postgres.Open(ctx, address)
	if err != nil {
		return nil, err // and no ledger that is nil and not nil
	}
	return l, nil
}

func openFile(ctx context.Context, path string, toRead bool) (store.Store, error) {
	open := sqlite.Open
	if _, err := os.Lstat(path); toRead && err == nil {
		open = sqlite.OpenToRead
	}
	l, err := open(ctx, path)
	if errors.Is(err, store.ErrOld) {
		l, err = sqlite.Open(ctx, path)
	}
	if err != nil {
		return nil, err
	}
	return l, nil
}

// A Trouble is what an engine has, as far as something can be done about it.
type Trouble int

// The troubles.
const (
	None    Trouble = iota
	Busy            // another process has been writing all the while
	Damaged         // its file is broken
	Full            // there is no room
	Away            // its server cannot be reached, or turned the program away
)

// TroubleOf returns which trouble an error comes of.
func TroubleOf(err error) Trouble {
	if err == nil {
		return None
	}
	for _, e := range engines() {
		if trouble := e.trouble(err); trouble != None {
			return trouble
		}
	}
	return None
}

// Tell returns how an engine's trouble is told, if an error comes of one.
func Tell(err error) (says told.Telling, has bool) {
	switch TroubleOf(err) {
	case Away:
		return told.Telling{Class: told.Away, Message: "the ledger cannot be used: " + saidOnce(err), Remedy: "Look at “ledger” in evenledger.yaml and at its server. What was written before is safe; nothing is sent that the ledger does not have."}, true
	case Busy:
		return told.Telling{Class: told.Held, Message: "the ledger is busy: another evenledger has been writing to it all the while", Remedy: "Run the command again when that is done; what was written before is safe."}, true
	case Damaged:
		return told.Telling{Message: err.Error(), Remedy: "The file is damaged. Put it aside and your last copy in its place (“evenledger ledger copy FILE” makes one); “evenledger ledger check” says whether one is sound."}, true
	case Full:
		return told.Telling{Message: "the ledger cannot be written: the disk is full", Remedy: "Make room and run the command again; what was written before is safe."}, true
	}
	return told.Telling{}, false
}

// saidOnce is what an error of several says, without what several of them say, and that the rest
// was broken off.
func saidOnce(err error) string {
	var lines []string
	for line := range strings.SplitSeq(err.Error(), "\n") {
		if !slices.Contains(lines, line) && line != context.Canceled.Error() {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}
