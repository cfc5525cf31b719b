package posting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// together reports whether the entry's request can go with others'. Accounts that are there are looked at together as well.
func (p *run) together(e *batch.Entry) bool {
	does, can := system.VerbOf(e.Intent), p.about.Can
	return can.AtOnce > 1 && slices.Contains(can.Together, does) && waits(e) && !p.resent[e.Row].any() && len(p.noPlace) == 0 &&
		(does == system.Creates || can.ByIDs() > 1 && !onlySteps(e))
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
	var together []*batch.Entry
	for i := range group {
		if p.together(&group[i].Entry) {
			together = append(together, &group[i].Entry)
		}
	}
	if len(together) > 1 {
		if err := p.apply(ctx, together); err != nil {
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

// apply has the system carry out what entries intend, at once. What stays open, or the system does
// not take like this, is settled one by one.
func (p *run) apply(ctx context.Context, entries []*batch.Entry) error {
	known, err := p.lookAtTogether(ctx, entries)
	if err != nil {
		return err
	}
	var orders []system.Order
	var ordered []*batch.Entry
	for _, e := range entries {
		o := system.Order{Does: system.VerbOf(e.Intent), Changes: e.Changes}
		now, there := known[e]
		switch {
		case o.Does == system.Creates:
			if o.Wanted, err = p.wantedOf(e); err != nil {
				return err
			}
		case !there || !waits(e):
			continue
		default:
			o.Known = account.Account{ID: e.Account, Version: now.Version, Fields: e.Known}
		}
		orders, ordered = append(orders, o), append(ordered, e)
	}
	if len(orders) < 2 {
		return nil
	}
	now := sent{}.again(p.Clock.Now())
	results, err := p.System.Apply(ctx, orders, p.fields())
	now = now.again(p.Clock.Now())
	var refusal *system.Refusal
	switch {
	case errors.As(err, &refusal), errors.Is(err, system.ErrGone):
		return nil // not like this: one by one
	case err != nil && !isOpen(err):
		return err
	case err == nil && len(results) != len(orders):
		err = &system.Unclear{Err: fmt.Errorf("there were %d orders, and %d results came back", len(orders), len(results))}
	}
	if err != nil { // each may have been carried out
		results = slices.Repeat([]system.Result{{Err: err}}, len(orders))
	}
	if err := p.applied(ctx, ordered, results, now); err != nil {
		return stillOpen(true, err) // of others it is known, and of those that still wait it is not
	}
	return nil
}

// lookAtTogether looks at the accounts of entries that are there, settles what can be settled by that, and returns
// the accounts. Those that are not found like this are left out.
func (p *run) lookAtTogether(ctx context.Context, entries []*batch.Entry) (map[*batch.Entry]account.Account, error) {
	known, of, ids := map[*batch.Entry]account.Account{}, map[string]*batch.Entry{}, []string(nil)
	for _, e := range entries {
		if e.Intent == account.Create {
			continue
		}
		if name, is := p.protected(e, nil); is {
			p.refuseProtected(e, name)
		} else if of[e.Account] == nil {
			of[e.Account] = e
			ids = append(ids, e.Account)
		}
	}
	for some := range slices.Chunk(ids, max(1, p.about.Can.ByIDs())) {
		for now, err := range p.System.Find(system.Stopping(ctx), system.ByID, some, p.fields()) {
			if errors.Is(err, system.ErrCannotFind) {
				return nil, nil
			}
			if err != nil {
				return nil, err
			}
			e := of[now.ID]
			if _, twice := known[e]; twice || e == nil {
				continue
			}
			known[e] = now
			if _, _, err := p.settleAs(ctx, e, now, nil, false); err != nil {
				return nil, err
			}
		}
	}
	return known, nil
}

// applied settles entries by what became of their orders: first those of which it is clear, so that nothing of it is lost
// when another has to be looked up and the system fails.
func (p *run) applied(ctx context.Context, entries []*batch.Entry, results []system.Result, now sent) (failed error) {
	var open []*batch.Entry                     // accounts that may have been made
	taken := map[*batch.Entry]*system.Unclear{} // those that were taken in, of what is open
	var rest []func() error
	for i, e := range entries {
		var refusal *system.Refusal
		var err error
		switch r := results[i]; {
		case e.Intent == account.Create && r.Err == nil && len(r.Account.Fields) == 0:
			p.created(e, r.Account) // the answer need not show it, and was to just this request
		case e.Intent == account.Create && r.Err == nil:
			err = p.answered(ctx, e, r.Account, now)
		case e.Intent == account.Create && errors.As(r.Err, &refusal):
			rest = append(rest, func() error { return p.notCreated(ctx, e, refusal, sent{}, now) })
		case e.Intent == account.Create: // whatever else it is, the account may be there
			open, taken[e] = append(open, e), takenIn(r.Err)
		case e.Intent == account.Remove:
			settled, isOpen, ended := p.removeEnded(e, r.Err, false)
			if !settled {
				rest = append(rest, func() error { return p.remove(ctx, e, isOpen || ended != nil) })
			}
		default:
			settled, isOpen, ended := p.changeEnded(e, r.Account, r.Err, false)
			if err = ended; !settled {
				err = nil // of its own request
				rest = append(rest, func() error { return p.change(ctx, e, isOpen || ended != nil) })
			}
		}
		failed = cmp.Or(failed, err)
	}
	if failed != nil {
		return failed
	}
	for _, do := range rest {
		if err := do(); err != nil {
			return err
		}
	}
	if len(open) == 0 {
		return nil
	}
	open, err := p.lookForAll(ctx, open, func(*batch.Entry) sent { return now }, p.Settle)
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
