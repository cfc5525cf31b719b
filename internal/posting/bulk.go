package posting

import (
	"context"
	"errors"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// together reports whether the entry's request can go with others'.
func (p *run) together(e *batch.Entry) bool {
	return p.about.Can.AtOnce > 1 && e.Intent == account.Create && waits(e) && !p.resent[e.Row].any() && len(p.noPlace) == 0
}

// groups cuts a block that was noted into what goes in one request each.
func (p *run) groups(block []batch.Entry, claim store.Claim) [][]store.Result {
	var groups [][]store.Result
	open := false // the last group takes more
	for i := range block {
		r, goes := store.Result{Entry: block[i], Claim: claim}, p.together(&block[i])
		if last := len(groups) - 1; open && goes && len(groups[last]) < p.about.Can.AtOnce {
			groups[last] = append(groups[last], r)
		} else {
			groups = append(groups, []store.Result{r})
		}
		open = goes
	}
	return groups
}

// lookForOpen looks for the accounts of creates that an earlier post left open,
// many with one request.
func (p *run) lookForOpen(ctx context.Context, open []store.InFlight) error {
	var creates []*batch.Entry
	times := map[int]sent{}
	for i := range open {
		if e := &open[i].Entry; e.Intent == account.Create {
			creates = append(creates, e)
			times[e.Row] = p.sentOf(open[i])
		}
	}
	for some := range slices.Chunk(creates, blockSize) {
		if _, err := p.lookForAll(ctx, some, func(e *batch.Entry) sent { return times[e.Row] }, 0); err != nil {
			return err
		}
	}
	return nil
}

// carryOutAll sends the requests of a group. An error means that the post cannot
// go on; what came of the entries that still wait is open if it is an Unclear.
func (p *run) carryOutAll(ctx context.Context, group []store.Result) error {
	var creates []*batch.Entry
	for i := range group {
		if p.together(&group[i].Entry) {
			creates = append(creates, &group[i].Entry)
		}
	}
	if len(creates) > 1 {
		if err := p.createAll(ctx, creates); err != nil {
			return err
		}
	}
	for i := range group {
		if e := &group[i].Entry; waits(e) && !p.isLeft(e.Row) {
			if err := p.carryOut(ctx, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// createAll makes accounts in one request. What stays open, or the system does
// not take like this, is settled one by one.
func (p *run) createAll(ctx context.Context, entries []*batch.Entry) error {
	wanted := make([]account.Account, len(entries))
	for i, e := range entries {
		var err error
		if wanted[i], err = p.wantedOf(e); err != nil {
			return err
		}
	}
	now := sent{}.again(p.Clock.Now())
	made, err := p.System.Create(ctx, wanted, p.fields())
	var refusal *system.Refusal
	switch {
	case errors.As(err, &refusal), errors.Is(err, system.ErrGone):
		return nil // not like this: one by one
	case err != nil && !isOpen(err):
		return err
	}
	now = now.again(p.Clock.Now())
	var open []*batch.Entry
	taken := map[*batch.Entry]*system.Unclear{} // those that were taken in, of what is open
	for i, e := range entries {
		switch {
		case err == nil && made[i].Err == nil && len(made[i].Account.Fields) == 0:
			p.created(e, made[i].Account) // the answer need not show it, and was to just this request
		case err == nil && made[i].Err == nil:
			if err := p.answered(ctx, e, made[i].Account, now); err != nil {
				return err
			}
		case err == nil && errors.As(made[i].Err, &refusal):
			if err := p.notCreated(ctx, e, refusal, sent{}, now); err != nil {
				return err
			}
		default: // whatever else it is, the account may be there
			open = append(open, e)
			if taken[e] = takenIn(err); err == nil {
				taken[e] = takenIn(made[i].Err)
			}
		}
	}
	if len(open) == 0 {
		return nil
	}
	open, err = p.lookForAll(ctx, open, func(*batch.Entry) sent { return now }, p.Settle)
	if err != nil {
		return err
	}
	for _, e := range open {
		if of := taken[e]; of != nil {
			p.leaveTaken(e, of)
		} else if err := p.create(ctx, e, now); err != nil {
			return err
		}
	}
	return nil
}

// wantedOf is the account that an entry makes.
func (p *run) wantedOf(e *batch.Entry) (wanted account.Account, err error) {
	wanted.Fields = map[string]account.Value{}
	for _, change := range e.Changes {
		wanted.Fields[change.Field] = change.After
	}
	if e.Secret != "" {
		if wanted.Password, err = p.Vault.Open(e.Row, e.Secret); err == nil {
			wanted.Password, _ = e.Password(wanted.Password)
			p.Mask.Add(wanted.Password)
		}
	}
	return wanted, err
}
