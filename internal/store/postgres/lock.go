package postgres

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"io"
	"net"
	"syscall"
	"time"

	"evenledger/internal/store"
)

// A lock is a lease that is renewed while its holder lives: a process that is killed, or is cut
// off, keeps others waiting for no longer than that.
const (
	lockLease = 20 * time.Second
	lockRenew = 5 * time.Second
)

// Lock implements store.Store.
func (l *Ledger) Lock(work string) (unlock func() error, err error) {
	ctx := context.Background()
	holder := rand.Text()
	got, err := l.takeLock(ctx, work, holder)
	if err != nil {
		return nil, l.told(err)
	}
	if !got {
		return nil, store.ErrBusy
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		tick := time.NewTicker(lockRenew)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				// If it cannot be renewed, another gets it once it is over. What is done under a lock is
				// over long before, or is safe then as well: it keeps people from getting in each other's way.
				_, _ = l.db.ExecContext(ctx, "UPDATE locks SET until = clock_timestamp() + $3 * interval '1 second' WHERE work = $1 AND holder = $2", work, holder, lockLease.Seconds())
			}
		}
	}()
	return func() error {
		close(stop)
		<-ended
		_, err := l.db.ExecContext(ctx, "DELETE FROM locks WHERE work = $1 AND holder = $2", work, holder)
		return err
	}, nil
}

func (l *Ledger) takeLock(ctx context.Context, work, holder string) (got bool, err error) {
	var mine string
	err = l.db.QueryRowContext(ctx, `INSERT INTO locks (work, holder, until) VALUES ($1, $2, clock_timestamp() + $3 * interval '1 second')
		ON CONFLICT (work) DO UPDATE SET holder = excluded.holder, until = excluded.until WHERE locks.until <= clock_timestamp() RETURNING holder`, work, holder, lockLease.Seconds()).Scan(&mine)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}

// isCut reports whether an error is of a connection that broke.
func isCut(err error) bool {
	var broken net.Error
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed) || errors.Is(err, syscall.EPIPE) ||
		errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, sql.ErrConnDone) || errors.As(err, &broken)
}
