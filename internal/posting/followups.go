package posting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// followUps does elsewhere what follows the entries whose account is as wanted. One is noted
// as begun before it is, and never done again by itself once that was so.
func (p *run) followUps(ctx context.Context, _ func(error)) error {
	if err := p.beginSteps(ctx, "follow-ups", membership.Follow); err != nil {
		return err
	}
	return p.pending(ctx, membership.Follow, func(window []batch.Entry) error {
		total := 0
		for i := range window {
			total += p.readySteps(&window[i], membership.Follow, account.FollowUpFailed, "the follow-up")
		}
		if total == 0 {
			for i := range window {
				p.endMails(&window[i])
			}
			return nil
		}
		group, doing := errgroup.WithContext(ctx)
		group.SetLimit(p.hands())
		for entries := range slices.Chunk(window, fewClaimed) {
			if doing.Err() != nil {
				break
			}
			if err := p.claim(doing, entries, membership.Follow); err != nil {
				return errors.Join(err, group.Wait())
			}
			for i := range entries {
				group.Go(func() error { return p.follow(doing, &entries[i]) })
			}
			// What is noted and not begun would have to be told as unclear after a kill.
			if err := group.Wait(); err != nil {
				return err
			}
		}
		return group.Wait()
	})
}

// follow does what follows one entry, one after the other.
func (p *run) follow(ctx context.Context, e *batch.Entry) (err error) {
	for n := range e.Steps {
		s := &e.Steps[n]
		if s.Do != membership.Follow || s.Result != membership.Sending {
			continue
		}
		if err != nil || ctx.Err() != nil {
			s.Result = membership.Queued // it was not begun
			continue
		}
		if err = p.followOne(ctx, e, s); s.Result != membership.Queued {
			p.advance(1)
		}
	}
	p.endMails(e)
	return err
}

func (p *run) followOne(ctx context.Context, e *batch.Entry, s *membership.Step) error {
	var order feed.Order
	if err := json.Unmarshal([]byte(s.Mail), &order); err != nil {
		s.Result = membership.Queued
		return fmt.Errorf("the follow-up of row %d cannot be read out of the ledger: %w", e.Row, err)
	}
	if order.Values != nil {
		order.Values["id"] = e.Account
	}
	if err := p.at.May(); err != nil {
		s.Result = membership.Queued
		return err
	}
	order.Key = fmt.Sprintf("%d.%d.%s.%d", p.Batch.ID, e.Row, s.Name, p.Batch.Made.UnixNano())
	err := p.Do(ctx, s.Thing, order)
	forget(e, account.FollowUpFailed, s.Name)
	var no *feed.Refused
	switch {
	case err == nil:
		s.Result = membership.Done
	case errors.As(err, &no):
		s.Result = membership.Failed
		e.Find(account.Error, account.FollowUpFailed, "", "", fmt.Sprintf("the account is as wanted, and the follow-up “%s” was not done: %s", s.Name, p.Mask.Hide(no.Message)))
	case errors.Is(err, feed.ErrUnclear):
		s.Result = membership.Unclear
		e.Find(account.Warning, account.FollowUpFailed, "", "", fmt.Sprintf("the follow-up “%s” may have been done or not: %s", s.Name, p.Mask.Hide(err.Error())))
	default:
		s.Result = membership.Queued
		return err
	}
	return nil
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
	if around := queue(p.Batch.Begin) + queue(p.Batch.End); around > 0 {
		n += around
		if err := p.Ledger.Save(ctx, p.Batch); err != nil {
			return 0, err
		}
	}
	return n, p.settle(ctx, queued)
}
