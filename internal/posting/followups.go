package posting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// followUps does elsewhere what follows the entries whose account is as wanted.
func (p *run) followUps(ctx context.Context, _ func(error)) error {
	o := &outward{run: p, does: membership.Follow, code: account.FollowUpFailed, called: "the follow-up"}
	if err := o.beginSteps(ctx, "follow-ups"); err != nil {
		return err
	}
	return o.each(ctx, p.slots(), func() (func(context.Context, *carrier, *batch.Entry, *membership.Step) error, func(), error) {
		return func(ctx context.Context, c *carrier, e *batch.Entry, s *membership.Step) error {
			return c.follow(ctx, e, s)
		}, func() {}, nil
	})
}

// follow does one follow-up. The error is of the place as a whole.
func (c *carrier) follow(ctx context.Context, e *batch.Entry, s *membership.Step) error {
	var order feed.Order
	if err := json.Unmarshal([]byte(s.Sent), &order); err != nil {
		return fmt.Errorf("the follow-up of row %d cannot be read out of the ledger: %w", e.Row, err)
	}
	order.Give("id", brief.Mark("id"), e.Account)
	order.Key = fmt.Sprintf("%d.%d.%s.%d", c.Batch.ID, e.Row, s.Name, c.Batch.Made.UnixNano())
	for {
		if err := c.claim(ctx, e, s); err != nil {
			return err
		}
		err := c.Do(ctx, s.To, order)
		e.Forget(s, account.FollowUpFailed)
		var no *feed.Refused
		var later *feed.Later
		switch {
		case err == nil:
			s.Result = membership.Done
			return nil
		case errors.As(err, &no):
			s.Result = membership.Failed
			e.FindOf(s, account.Error, account.FollowUpFailed, fmt.Sprintf("the account is as wanted, and the follow-up “%s” was not done: %s", s.Name, c.Mask.Told(no.Message)))
			return nil
		case errors.Is(err, feed.ErrUnclear):
			s.Result = membership.Unclear
			e.FindOf(s, account.Warning, account.FollowUpFailed, fmt.Sprintf("the follow-up “%s” may have been done or not: %s", s.Name, c.Mask.Told(err.Error())))
			return nil
		}
		if s.Result = membership.Queued; !errors.As(err, &later) {
			return err
		}
		if c.Clock.Wait(ctx, later.After) != nil {
			return nil
		}
	}
}

// Again has what failed elsewhere, or of which nobody can say whether it was done, done once
// more by the next Run: a person said so. It returns how many there are.
func (p *Post) Again(ctx context.Context) (n int, err error) {
	err = p.alone(ctx, func(ctx context.Context, r *run) error {
		n, err = r.queueAgain(ctx)
		return err
	})
	return n, err
}

func (p *run) queueAgain(ctx context.Context) (n int, err error) {
	var queued []store.Result
	for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Does: membership.Follow}) {
		if err != nil {
			return 0, err
		}
		chosen := 0
		for i := range e.Steps {
			if s := &e.Steps[i]; s.Do == membership.Follow && slices.Contains([]membership.Result{membership.Failed, membership.Unclear, membership.Sending}, s.Result) {
				s.Result = membership.Queued
				chosen++
			} else if s.Do == membership.Notify && s.Result == membership.Unsent && e.Did != "" {
				s.Result = membership.Queued // it is sent if all is well now
			}
		}
		if chosen == 0 {
			continue
		}
		n += chosen
		e.Outcome = account.Waiting
		queued = append(queued, store.Result{Entry: e})
	}
	if around := queue(p.Batch.Begun) + queue(p.Batch.Ended); around > 0 {
		n += around
		if err := p.Ledger.Save(ctx, p.Batch); err != nil {
			return 0, err
		}
	}
	return n, p.settle(ctx, queued)
}
