// Package presence keeps a worker's place among those that are at a batch.
//
// It promises that who is told that something may be sent still has the work: the lease is renewed
// while the process lives, and counted so that it is over here before it is over for others. Its
// times are those of the wall and not of the core's clock, as they hold against other processes.
package presence

import (
	"context"
	"errors"
	"sync"
	"time"

	"evenledger/internal/clock"
	"evenledger/internal/pace"
	"evenledger/internal/store"
)

// A Presence is a worker's place at batches.
type Presence struct {
	Lease store.Lease   // at the batch, if it is at one alone
	Term  time.Duration // for which it runs unless it is renewed

	leases []store.Lease
	crowd  *pace.Crowd

	mu    sync.Mutex
	until time.Time // that others leave its work alone, by this machine's clock at the latest
	wall  time.Time // the same, with what a machine that sleeps does not count
	share store.Share
}

// beats is how often the lease is renewed.
func (at *Presence) beats() time.Duration {
	return min(max(at.Term/10, 20*time.Millisecond), time.Second)
}

// enough is which part of a lease must be left for something to be sent: what is sent then has
// arrived, or is known not to have, before others look for it.
const enough = 4

// Join has a worker, whose lease it is and runs for a term, be one of those at a batch while do runs. The context of do ends with
// store.ErrFenced when others may have its work. The crowd, if any, is told how many share the
// system. It returns whether the worker was the last.
func Join(ctx context.Context, lease store.Lease, term time.Duration, crowd *pace.Crowd, do func(ctx context.Context, at *Presence) error) (last bool, err error) {
	at := &Presence{Lease: lease, leases: []store.Lease{lease}, Term: term, crowd: crowd}
	begun := time.Now()
	share, err := lease.Join(ctx)
	if err != nil {
		return false, err
	}
	at.shares(share)
	at.Renewed(begun)
	return at.during(ctx, do)
}

// Known waits until all others at batches of the system know that there is one more, who share what it lets pass.
func (at *Presence) Known(ctx context.Context) error {
	if at.Crew().Of > 1 && clock.Real().Wait(ctx, at.beats()+at.beats()/4) != nil {
		return context.Cause(ctx)
	}
	return nil
}

// At is for a worker that is at batches already, which it begins to make.
func At(ctx context.Context, leases []store.Lease, term time.Duration, do func(ctx context.Context) error) error {
	at := &Presence{leases: leases, Term: term}
	at.Renewed(time.Now())
	_, err := at.during(ctx, func(ctx context.Context, _ *Presence) error { return do(ctx) })
	return err
}

func (at *Presence) during(ctx context.Context, do func(ctx context.Context, at *Presence) error) (last bool, err error) {
	after := context.WithoutCancel(ctx)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		at.beat(after, stop, cancel)
	}()
	err = do(ctx, at)
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, store.ErrFenced) && !errors.Is(err, cause) {
		err = errors.Join(cause, err) // that it was broken off comes of it
	}
	close(stop)
	<-ended
	for _, lease := range at.leases {
		var left error
		last, left = lease.Leave(after)
		err = errors.Join(err, left)
	}
	return last, err
}

// beat renews the lease until it is stopped, or until it is over.
func (at *Presence) beat(ctx context.Context, stop <-chan struct{}, cancel func(error)) {
	tick := time.NewTicker(at.beats())
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case <-tick.C:
			err := at.renew(ctx)
			if err != nil && at.May() != nil && !errors.Is(err, store.ErrFenced) {
				err = errors.Join(store.ErrFenced, err)
			}
			if errors.Is(err, store.ErrFenced) {
				cancel(err)
				return
			}
		}
	}
}

func (at *Presence) renew(ctx context.Context) error {
	begun := time.Now()
	ctx, cancel := context.WithTimeout(ctx, at.Term)
	defer cancel()
	for _, lease := range at.leases {
		share, err := lease.Renew(ctx)
		if err != nil {
			return err
		}
		at.shares(share)
	}
	at.Renewed(begun)
	return nil
}

func (at *Presence) shares(share store.Share) {
	at.mu.Lock()
	at.share = share
	at.mu.Unlock()
	at.crowd.Set(share.Of, share.Rank)
}

// Renewed notes that the lease was renewed by something that was asked for at begun.
func (at *Presence) Renewed(begun time.Time) {
	at.mu.Lock()
	defer at.mu.Unlock()
	safe := at.Term - at.Term/enough
	at.until, at.wall = begun.Add(safe), begun.Round(0).Add(safe)
}

// May returns why nothing may be sent, or nil.
func (at *Presence) May() error {
	now := time.Now()
	at.mu.Lock()
	defer at.mu.Unlock()
	if now.After(at.until) || now.Round(0).After(at.wall) {
		return store.ErrFenced
	}
	return nil
}

// Crew is how many are at batches of the system, and which of them this one is.
func (at *Presence) Crew() store.Share {
	at.mu.Lock()
	defer at.mu.Unlock()
	return at.share
}
