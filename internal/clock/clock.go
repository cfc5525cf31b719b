// Package clock is time as the core is given it, so that a test need not wait for it.
package clock

import (
	"context"
	"sync"
	"time"
)

// A Clock tells the time and waits. It may be used by several goroutines.
type Clock interface {
	Now() time.Time
	// Wait waits, unless ctx is done before; then the error is the context's.
	Wait(ctx context.Context, d time.Duration) error
}

// Real returns the clock on the wall.
func Real() Clock { return real{} }

type real struct{}

func (real) Now() time.Time { return time.Now() }

func (real) Wait(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// A Fake is a Clock for tests: who waits is let go at once, and it is that much later.
type Fake struct {
	mu  sync.Mutex
	now time.Time
}

// NewFake returns a Fake at a time.
func NewFake(now time.Time) *Fake { return &Fake{now: now} }

// Now implements Clock.
func (f *Fake) Now() time.Time {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.now
}

// Wait implements Clock.
func (f *Fake) Wait(ctx context.Context, d time.Duration) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return err
	}
	f.now = f.now.Add(max(d, 0))
	return nil
}
