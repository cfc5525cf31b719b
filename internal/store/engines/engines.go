// Package engines is the table of the engines that a ledger can lie in: an address picks one.
package engines

import (
	"context"
	"errors"
	"os"

	"evenledger/internal/pgdial"
	"evenledger/internal/store"
	"evenledger/internal/store/postgres"
	"evenledger/internal/store/sqlite"
)

// IsShared reports whether an address is that of a ledger on a server, and not a file.
func IsShared(address string) bool { return pgdial.Is(address) }

// Open opens the ledger at an address, or in a file, and makes it if there is none. For reading
// alone, a file that cannot be written to will do.
func Open(ctx context.Context, address string, toRead bool) (store.Store, error) {
	if IsShared(address) {
		l, err := postgres.Open(ctx, address)
		if err != nil {
			return nil, err
		}
		return l, nil
	}
	open := sqlite.Open
	if _, err := os.Lstat(address); toRead && err == nil {
		open = sqlite.OpenToRead
	}
	l, err := open(ctx, address)
	if errors.Is(err, store.ErrOld) {
		l, err = sqlite.Open(ctx, address)
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

// Tell returns which trouble an error comes of.
func Tell(err error) Trouble {
	switch {
	case err == nil:
		return None
	case sqlite.IsBusy(err):
		return Busy
	case sqlite.IsDamaged(err):
		return Damaged
	case sqlite.IsFull(err), postgres.IsFull(err):
		return Full
	case postgres.IsTurnedAway(err), postgres.IsAway(err):
		return Away
	}
	return None
}
