package scim

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"evenledger/internal/clock"
)

// How a pace goes by what the server lets pass.
const (
	firstPause  = 100 * time.Millisecond // after a 429 that names no time
	longestSelf = 200                    // times the first, such a pause at most
	longestAsk  = time.Hour              // that a server may ask to wait
	patience    = 15                     // pauses one after the other in which nothing passed
	window      = time.Second            // over which it is counted what passes
	enough      = 10                     // passed in a window, for the count to say something
)

// A pace holds all requests of a client back together: to the rate that was
// configured, and to what the server lets pass once it has answered that there are
// too many (429, RFC 6585 section 4). It may be used by several goroutines.
type pace struct {
	limiter *rate.Limiter
	most    rate.Limit // as configured
	first   time.Duration

	mu     sync.Mutex
	until  time.Time     // nothing is sent before
	pause  time.Duration // the last that the server named no time for
	inRow  int           // pauses since something passed
	passed []time.Time   // of late
	wall   rate.Limit    // at which it was too much; 0: not known
	since  time.Time     // when it was first met
	sure   bool          // it was met again later
	moved  time.Time     // when the limit was last changed
	slowed time.Time     // and lowered
}

func newPace(most float64, first time.Duration) *pace {
	limit := rate.Inf
	if most > 0 {
		limit = rate.Limit(most)
	}
	return &pace{limiter: rate.NewLimiter(limit, 1), most: limit, first: min(first, firstPause)}
}

// wait returns when a request may be sent, or when ctx is done.
func (p *pace) wait(ctx context.Context) error {
	for {
		if err := clock.Real().Wait(ctx, p.left()); err != nil {
			return err
		}
		if err := p.limiter.Wait(ctx); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return err
		}
		// Others may have been told to wait meanwhile; after it, each takes its turn anew.
		if p.left() <= 0 {
			return ctx.Err()
		}
	}
}

func (p *pace) left() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return time.Until(p.until)
}

// pass notes that a request was let through.
func (p *pace) pass() {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
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
	p.limiter.SetLimit(min(next, p.most))
}

// count returns how many passed in the last window.
func (p *pace) count(now time.Time) int {
	old := 0
	for old < len(p.passed) && now.Sub(p.passed[old]) > window {
		old++
	}
	p.passed = append(p.passed[:0], p.passed[old:]...)
	return len(p.passed)
}

// refused notes that there were too many requests. It returns until when nothing is
// sent, and false when the server has let nothing through for too long.
func (p *pace) refused(asked time.Duration, named bool) (until time.Time, goOn bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if now.Before(p.until) && now.Add(asked).Before(p.until) {
		return p.until, true // it was on its way when another was told
	}
	p.inRow++
	pause := asked
	if named && asked == 0 {
		if p.inRow <= 3 {
			return now, true // it may come again at once, as the server says
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
		p.limiter.SetLimit(limit * 0.97)
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
func (p *pace) slow(now time.Time) {
	passing, limit := rate.Limit(p.count(now)), p.limiter.Limit()
	paused := now.Sub(p.until) < window // of late, so that fewer passed than might have
	switch {
	case !paused && passing >= enough && (limit == rate.Inf || passing >= limit*0.8):
		if limit == rate.Inf {
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
	p.limiter.SetLimit(max(limit, 0.2))
}
