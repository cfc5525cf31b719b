package posting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/clock"
	"evenledger/internal/presence"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Stages of a post. Each begins when the one before has ended for all workers.
var ( // they are what the ledger calls them
	opening     = store.Stage{Name: "opening", Whole: true}
	ofAccounts  = store.Stage{Name: "accounts"}
	ofReown     = store.Stage{Name: "reown", Whole: true}
	ofNames     = store.Stage{Name: "names", Whole: true}
	ofReferring = store.Stage{Name: "references", After: true}
	ofPasswords = store.Stage{Name: "passwords", After: true}
	ofTies      = store.Stage{Name: "memberships", Whole: true}
	ofProof     = store.Stage{Name: "proof", Whole: true}
	ofFollowing = store.Stage{Name: "follow-ups", Whole: true}
	ofMails     = store.Stage{Name: "mails", Whole: true}
	ofHanding   = store.Stage{Name: "handing over", Whole: true}
	ofSettling  = store.Stage{Name: "settling", Whole: true}
	closing     = store.Stage{Name: "closing", Whole: true}
)

// Sizes of parts. One worker takes much at once, so that few requests look ahead, but no more than
// others that come can wait for; several take what lasts for a moment, and towards the end ever
// less, so that all end together.
const (
	aloneTime   = 15 * time.Second
	partTime    = 3 * time.Second
	partTurns   = 24 // times as long as it took to get one, at least: the ledger may be far away
	leastPart   = blockSize
	pollingTime = 250 * time.Millisecond // for others to end a stage, where that takes long
	firstPoll   = 10 * time.Millisecond
)

// share has the worker do its share of a stage: one part after the other, until all of it is over.
// With most above 0 it takes one part of so many rows and leaves it there.
func (p *run) share(ctx context.Context, stage store.Stage, most int, do func(ctx context.Context) error) error {
	size := firstLook // others may come to share it
	if crew := p.at.Crew(); crew.Of > 1 {
		size = 4 * leastPart
	}
	pause := firstPoll
	for limited := most > 0; ; {
		if err := p.waitForSlot(ctx); err != nil {
			return err
		}
		if !limited {
			most = size
		}
		begun := time.Now()
		part, turn, err := p.at.Lease.Take(ctx, stage, most)
		if err != nil {
			return err
		}
		p.at.Renewed(begun)
		got := time.Since(begun)
		switch turn {
		case store.Over:
			return nil
		case store.Wait:
			if clock.Real().Wait(ctx, pause) != nil {
				return context.Cause(ctx)
			}
			pause = min(2*pause, pollingTime)
			continue
		}
		p.part, pause = part, firstPoll
		p.again = p.again || part.Again
		if part.N > 0 || stage.Whole || part.Again {
			err = do(ctx)
		}
		after := context.WithoutCancel(ctx)
		if err != nil || ctx.Err() != nil { // what was stopped is not done
			return errors.Join(err, context.Cause(ctx), p.at.Lease.Return(after, part))
		}
		if err := p.at.Lease.End(after, part); err != nil || limited {
			return err
		}
		size = p.nextSize(part.N, time.Since(begun), got)
	}
}

// alone does what nobody else may be at the batch for. Whoever comes to post it meanwhile waits at
// its opening.
func (p *Post) alone(ctx context.Context, do func(ctx context.Context, r *run) error) error {
	_, err := presence.Join(ctx, p.Ledger.Lease(p.Batch.ID, p.Worker), p.Worker.Term, p.Crowd, func(ctx context.Context, at *presence.Presence) error {
		r := newRun(p, &system.Description{}, at)
		part, turn, err := at.Lease.Take(ctx, opening, 0)
		if err != nil {
			return err
		}
		if others := at.Crew().Others; len(others) > 0 || turn != store.Got {
			return &batch.Guard{Message: fmt.Sprintf("batch %d is being posted by %s", p.Batch.ID, cmp.Or(strings.Join(others, " and "), "somebody else")), Remedy: "Wait until that is done; “evenledger batches” shows it."}
		}
		r.part = part
		if err = r.reload(ctx); err == nil {
			err = do(ctx, r)
		}
		return errors.Join(err, at.Lease.Return(context.WithoutCancel(ctx), part))
	})
	return errors.Join(err, p.endorse(context.WithoutCancel(ctx)))
}

// waitForSlot waits until some of the requests that the system lets pass at once are this worker's.
func (p *run) waitForSlot(ctx context.Context) error {
	for p.slots() == 0 {
		if clock.Real().Wait(ctx, pollingTime) != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}

// slots is how many requests this worker may have under way.
func (p *run) slots() int {
	if !p.Shared {
		return max(1, p.Together)
	}
	return p.Crowd.SlotsOf(p.Together)
}

// nextSize is how large the next part is to be, after one of n rows took so long, and getting it a
// part of that.
func (p *run) nextSize(n int, took, got time.Duration) int {
	lasts := aloneTime
	crew := p.at.Crew()
	if crew.Of > 1 {
		lasts = max(partTime, partTurns*got)
	}
	size, least := lookAhead, leastPart
	if took > 0 && n > 0 {
		in := func(d time.Duration) int { return int(min(lookAhead, float64(n)*float64(d)/float64(took))) }
		size, least = in(lasts), max(leastPart, in(partTurns/4*got))
	}
	if crew.Of > 1 && p.waiting > 0 {
		p.counting.Lock()
		left := p.waiting - p.done
		p.counting.Unlock()
		size = min(size, left/(2*crew.Of))
	}
	return max(size, least)
}

// reload reads what the ledger has of the batch by now.
func (p *run) reload(ctx context.Context) error {
	now, err := p.Ledger.Batch(ctx, p.Batch.ID)
	if err != nil {
		return err
	}
	*p.Batch = *now
	return nil
}
