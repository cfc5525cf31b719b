package posting

import (
	"context"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// goesWithOthers reports whether the entry's request can go with others'.
func (p *run) goesWithOthers(e *batch.Entry) bool {
	return p.goesTogether(system.VerbOf(e.Intent)) && waits(e) && !p.resent[e.Row].any() && len(p.noPlace) == 0 && (e.Intent == account.Create || !onlySteps(e))
}

// groups cuts a block that was noted into what goes in one request each.
func (p *run) groups(block []batch.Entry, claim store.Claim) [][]store.Result {
	var groups [][]store.Result
	open := false // the last group takes more
	for i := range block {
		r, goes := store.Result{Entry: block[i], Claim: claim}, p.goesWithOthers(&block[i])
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

// carryOutAll carries out the own steps of a group. An error means that the post cannot
// go on; what came of the entries that still wait is open if it is an Unclear.
func (p *run) carryOutAll(ctx context.Context, group []store.Result) error {
	var errands []errand
	for i := range group {
		if e := &group[i].Entry; waits(e) {
			if errand := p.errandOf(e); errand != nil {
				errands = append(errands, errand)
			}
		}
	}
	return p.together(ctx, errands)
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
