// Package pace holds the requests to one system back together: to a rate that was
// configured, and to what the system lets pass once it has said that there are too many.
//
// It promises that nothing waits longer than it must: where the system names a time it is
// kept, and else the rate is found at which it lets everything pass. What a system's
// word for "too many" is, and sending again, is left to its client.
package pace

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"evenledger/internal/clock"
)

// How a pace goes by what the system lets pass.
const (
	firstPause  = 100 * time.Millisecond // where the system names no time
	longestSelf = 200                    // times the first, such a pause at most
	patience    = 15                     // pauses one after the other in which nothing passed
	window      = time.Second            // over which it is counted what passes
	enough      = 10                     // passed in a window, for the count to say something
)

// A Crowd is how many processes share what a system is to get, and which of them this one is. The
// zero value is one alone, and so is nil. It may be used by several goroutines.
type Crowd struct {
	mu       sync.Mutex
	of, rank int
}

// Set says how many there are, and which of them this one is, from 0 on.
func (c *Crowd) Set(of, rank int) {
	if c == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.of, c.rank = of, rank
}

// SlotsOf is how many of some requests at once are this process's: all of them are somebody's.
func (c *Crowd) SlotsOf(together int) int {
	if c == nil {
		return together
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of <= 1 {
		return together
	}
	mine := together / c.of
	if c.rank < together%c.of {
		mine++
	}
	return mine
}

func (c *Crowd) share(most rate.Limit) rate.Limit {
	if c == nil || most == rate.Inf {
		return most
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return most / rate.Limit(max(1, c.of))
}

// A Pace is that of one system. It may be used by several goroutines.
type Pace struct {
	clock   clock.Clock
	limiter *rate.Limiter
	all     rate.Limit // as configured
	crowd   *Crowd
	most    rate.Limit // of that, this process's share
	first   time.Duration

	mu     sync.Mutex
	until  time.Time     // nothing is sent before
	pause  time.Duration // the last that the system named no time for
	inRow  int           // pauses since something passed
	passed []time.Time   // of late
	wall   rate.Limit    // at which it was too much; 0: not known
	since  time.Time     // when it was first met
	sure   bool          // it was met again later
	moved  time.Time     // when the limit was last changed
	slowed time.Time     // and lowered
}

// New returns a pace of at most so many requests a second, for all of the crowd together; 0: as
// many as there are. The first pause after a word of the system that names no time is no longer
// than first.
func New(clock clock.Clock, most float64, first time.Duration, crowd *Crowd) *Pace {
	limit := rate.Inf
	if most > 0 {
		limit = rate.Limit(most)
	}
	return &Pace{clock: clock, limiter: rate.NewLimiter(crowd.share(limit), 1), all: limit, crowd: crowd, most: crowd.share(limit), first: min(first, firstPause)}
}

// fit has the pace be this process's share by now.
func (p *Pace) fit(now time.Time) {
	share := p.crowd.share(p.all)
	p.mu.Lock()
	defer p.mu.Unlock()
	if share == p.most {
		return
	}
	if limit := p.limiter.Limit(); limit == p.most || limit > share {
		p.limiter.SetLimitAt(now, share)
	}
	p.most = share
}

// Wait returns when a request may be sent, or when ctx is done; the error is its own.
func (p *Pace) Wait(ctx context.Context) error {
	for {
		if err := p.clock.Wait(ctx, p.left()); err != nil {
			return err
		}
		now := p.clock.Now()
		p.fit(now)
		turn := p.limiter.ReserveN(now, 1)
		if err := p.clock.Wait(ctx, turn.DelayFrom(now)); err != nil {
			turn.CancelAt(p.clock.Now())
			return err
		}
		// Others may have been told to wait meanwhile; after it, each takes its turn anew.
		if p.left() <= 0 {
			return ctx.Err()
		}
	}
}

// Rest has nothing be sent for a while, as the system said beforehand that nothing would pass.
func (p *Pace) Rest(pause time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if until := p.clock.Now().Add(pause); until.After(p.until) {
		p.until = until
	}
}

func (p *Pace) left() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.until.Sub(p.clock.Now())
}

// Pass notes that a request was let through.
func (p *Pace) Pass() {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.clock.Now()
	p.inRow, p.pause = 0, 0
	if len(p.passed) == cap(p.passed) { // those that are out of the window make room
		p.count(now)
	}
	p.passed = append(p.passed, now)
	limit := p.limiter.Limit()
	if limit == p.most || now.Sub(p.moved) < window {
		return
	}
	// Fast where it is known to be let through, and slowly towards what was too much.
	next := limit * 1.5
	if below := p.wall * 0.96; p.wall > 0 && next > below {
		// The longer nothing was too much, the more it may let through than it did then.
		step := 1 + 0.01*rate.Limit(min(now.Sub(p.slowed).Seconds(), 10))
		if !p.sure {
			step = 1.15
		}
		next = max(limit*step, below)
	}
	if p.wall > 0 {
		p.wall = max(p.wall, limit)
	}
	p.moved = now
	p.limiter.SetLimitAt(now, min(next, p.most))
}

// count returns how many passed in the last window.
func (p *Pace) count(now time.Time) int {
	old := 0
	for old < len(p.passed) && now.Sub(p.passed[old]) > window {
		old++
	}
	p.passed = append(p.passed[:0], p.passed[old:]...)
	return len(p.passed)
}

// Refused notes that the system had too many requests, and for how long it asked to be left
// alone, if it named a time. It returns until when nothing is sent, and false when the system
// has let nothing pass for too long.
func (p *Pace) Refused(asked time.Duration, named bool) (until time.Time, goOn bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.clock.Now()
	if now.Before(p.until) && now.Add(asked).Before(p.until) {
		return p.until, true // it was on its way when another was told
	}
	p.inRow++
	pause := asked
	if named && asked == 0 {
		if p.inRow <= 3 {
			return now, true // it may come again at once, as the system says
		}
		named = false
	}
	switch {
	case !named && p.inRow == 1 && p.wall > 0:
		// One too many at the wall, which is where we want to be: only that one is late.
		pause = time.Duration(float64(time.Second) / float64(p.limiter.Limit()))
		limit, passing := p.limiter.Limit(), rate.Limit(p.count(now))
		if passing >= limit*0.9 {
			p.sure = now.Sub(p.since) > 2*window
			p.wall = passing
			limit = min(limit, passing)
		}
		p.moved, p.slowed = now, now
		p.limiter.SetLimitAt(now, limit*0.97)
		p.until = now.Add(pause)
		return p.until, true
	case !named:
		p.pause = min(max(2*p.pause, p.first), longestSelf*p.first)
		pause = p.pause
	}
	if !named || p.inRow > 1 || p.wall > 0 {
		p.slow(now)
	}
	p.until = now.Add(pause)
	return p.until, p.inRow <= patience
}

// slow lowers the limit to a little less than what was let through.
func (p *Pace) slow(now time.Time) {
	passing, limit := rate.Limit(p.count(now)), p.limiter.Limit()
	paused := now.Sub(p.until) < window // of late, so that fewer passed than might have
	switch {
	case !paused && passing >= enough && (limit == p.most || passing >= limit*0.8):
		if limit == p.most {
			p.since = now // of a first burst, others may have had a share
		}
		p.wall = passing
		limit = min(limit, passing*0.95)
	case p.inRow < 6 || limit == rate.Inf:
		return // a burst, or too few to tell: the pause will do
	default:
		limit *= 0.7
	}
	p.moved, p.slowed = now, now
	p.limiter.SetLimitAt(now, max(limit, 0.2))
}
