package posting

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// whole does what is to be done elsewhere about the batch as a whole, one after the other. Each
// is noted as begun before it is; what failed or has no clear answer stops the batch there, and
// is done again only if a person says so.
func (p *run) whole(ctx context.Context, all []batch.Whole, became *batch.Results, when string) error {
	for i := range all {
		one := &all[i]
		switch became.Of(i) {
		case membership.Done:
			continue
		case "", membership.Queued:
		case membership.Failed:
			return p.stopped(one, when, "was refused")
		default:
			return p.stopped(one, when, "may have been done or not")
		}
		became.Note(i, membership.Sending)
		if err := p.Ledger.Save(ctx, p.Batch); err != nil {
			return err
		}
		if err := p.at.May(); err != nil {
			return err
		}
		order := one.Order
		order.Values, order.Body = maps.Clone(order.Values), maps.Clone(order.Body) // the ledger's stay as they were drafted
		order.Give("batch", brief.Mark("batch"), strconv.Itoa(p.Batch.ID))
		order.Key = fmt.Sprintf("%d.%s.%d.%d", p.Batch.ID, when, i+1, p.Batch.Made.UnixNano())
		err := p.Do(ctx, one.Feed, order)
		var no *feed.Refused
		var later *feed.Later
		for errors.As(err, &later) && p.Clock.Wait(ctx, later.After) == nil {
			if err = p.at.May(); err == nil {
				err = p.Do(ctx, one.Feed, order)
			}
		}
		switch {
		case err == nil:
			became.Note(i, membership.Done)
		case errors.As(err, &no):
			became.Note(i, membership.Failed)
			err = p.stopped(one, when, "was refused: "+p.Mask.Told(no.Message))
		case errors.Is(err, feed.ErrUnclear):
			became.Note(i, membership.Unclear)
			err = p.stopped(one, when, "may have been done or not: "+p.Mask.Told(err.Error()))
		default:
			became.Note(i, membership.Queued)
		}
		if err := errors.Join(err, p.Ledger.Save(context.WithoutCancel(ctx), p.Batch)); err != nil {
			return err
		}
	}
	return nil
}

func (p *run) stopped(one *batch.Whole, when, why string) error {
	return &system.Unavailable{Message: fmt.Sprintf("what is done in feed %s at the %s of the batch %s", one.Feed, when, why), Remedy: fmt.Sprintf("Look there. “evenledger post %d --again” does it once more.", p.Batch.ID)}
}

// queue has what is done about the batch as a whole, and did not come to a good end, done again.
func queue(became batch.Results) (n int) {
	for i, result := range became {
		if slices.Contains([]membership.Result{membership.Failed, membership.Unclear, membership.Sending}, result) {
			became[i] = membership.Queued
			n++
		}
	}
	return n
}
