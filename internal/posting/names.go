package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// follower returns the system if others refer to accounts by name in it; nil: they do not.
func (p *run) follower() system.Follower {
	if !p.about.Can.Refers {
		return nil
	}
	follower, _ := p.System.(system.Follower)
	return follower
}

// tellMoving tells the system which accounts the batch calls otherwise, before the first is: until what refers to them has followed,
// it does so by names that are nobody's.
func (p *run) tellMoving(ctx context.Context) error {
	follower := p.follower()
	if follower == nil {
		return nil
	}
	for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Does: membership.Stay}) {
		if err != nil {
			return err
		}
		if before, moves := formerly(&e); moves {
			follower.Moving([]account.Account{before})
		}
	}
	return nil
}

// formerly is an entry's account as it was called before the batch, where that changes.
func formerly(e *batch.Entry) (before account.Account, moves bool) {
	for _, s := range e.Steps {
		if s.Do == membership.Stay && !s.Again {
			return account.Account{ID: e.Account, Version: s.Before}, true
		}
	}
	return before, false
}

// names has what refers by name to accounts that were called otherwise, or removed, refer to them as they are called now, or not
// at all, where the server does not see to it.
func (p *run) names(ctx context.Context, _ func(error)) error {
	follower := p.follower()
	if follower == nil {
		return errors.New("the system has no names by which others refer to accounts")
	}
	return p.pending(ctx, membership.Stay, func(window []batch.Entry) error {
		p.begin("references by name", len(window))
		f, err := follow(ctx, p.may, follower, window)
		if err != nil {
			return err
		}
		for i := range window {
			e := &window[i]
			if err := p.settleNames(ctx, e, f); err != nil {
				return err
			}
			if !slices.ContainsFunc(e.Steps, waitsToStay) {
				p.clear(e)
			}
			e.Settle()
			p.advance(1)
			p.results <- resultOf(e)
		}
		return nil
	})
}

// A mention is that something refers to an account by its name: the account, the kind of what refers to it, and its identifier.
type mention [3]string

// followed is what became of what referred to accounts by the names that they had.
type followed struct {
	ours map[mention]bool              // that follow by a request of ours
	now  map[mention]bool              // that are there now
	left map[string][]system.Reference // by account, that could not be had to follow
	why  map[mention]string            // those could not
}

// follow has what refers by name to the accounts of a window refer to them as they are called now.
func follow(ctx context.Context, may system.Permit, follower system.Follower, window []batch.Entry) (followed, error) {
	var moved, called []account.Account
	for i := range window {
		e := &window[i]
		if before, moves := formerly(e); moves {
			moved = append(moved, before)
		}
		if e.Did != account.Removed {
			called = append(called, account.Account{ID: e.Account, Version: e.Version})
		}
	}
	f := followed{map[mention]bool{}, map[mention]bool{}, map[string][]system.Reference{}, map[mention]string{}}
	done, left, err := follower.Follow(ctx, may, moved)
	if err != nil {
		return f, err
	}
	for _, r := range done {
		f.ours[mention{r.Account, r.Kind, r.Holder}] = true
	}
	for _, r := range left {
		f.left[r.Account] = append(f.left[r.Account], r)
		f.why[mention{r.Account, r.Kind, r.Holder}] = r.Why
	}
	for r, err := range follower.Referring(ctx, called) {
		if err != nil {
			return f, err
		}
		f.now[mention{r.Account, r.Kind, r.Holder}] = true
	}
	return f, nil
}

// settleNames settles the steps of an entry by which others are to refer to its account still.
func (p *run) settleNames(ctx context.Context, e *batch.Entry, f followed) error {
	for _, r := range f.left[e.Account] {
		because := ""
		if r.Why != "" {
			because = ": " + r.Why
		}
		e.Find(account.Warning, account.FormerName, r.Kind, "", fmt.Sprintf("%s still has the name that it had, and whoever is called so next is taken for it there%s", r.Name, because))
	}
	for n := range e.Steps {
		s := &e.Steps[n]
		if !waitsToStay(*s) {
			continue
		}
		at := mention{e.Account, s.Kind, s.Thing}
		switch {
		case s.Kind == "":
			s.Result = membership.Done
		case s.Again:
			if err := p.carryOut(ctx, []errand{&restoring{p: p, e: e, s: s, progress: progress{look: true, before: wasOpen(e)}}}); err != nil {
				return err
			}
		case f.ours[at] && f.now[at]:
			s.Result = membership.Done
		case f.now[at]:
			s.Result = membership.Already
		case f.why[at] != "":
			s.Result = membership.Failed
			e.Find(account.Error, account.SystemRefused, s.Kind, "", fmt.Sprintf("the account is there, but not that it %s: %s", s.Text(), f.why[at]))
		default:
			s.Result = membership.Failed
			e.Find(account.Error, account.LostReference, s.Kind, "", fmt.Sprintf("the account is there, but not that it %s: %s does not have it any more", s.Text(), s.Name))
		}
	}
	return nil
}

func waitsToStay(s membership.Step) bool { return s.Do == membership.Stay && s.Waits() }

// A restoring has another account refer to one that was made again, unless it refers to somebody else by now.
type restoring struct {
	progress
	p      *run
	e      *batch.Entry
	s      *membership.Step
	holder account.Account
}

func (r *restoring) does() system.Verb { return system.Changes }
func (r *restoring) account() string   { return r.s.Thing }
func (r *restoring) touches() []string { return []string{r.s.Kind} }

func (r *restoring) order() (system.Order, error) {
	return system.Order{Does: system.Changes, Known: r.holder, Changes: []account.Change{{Field: r.s.Kind, Before: r.holder.Field(r.s.Kind), After: account.Of(r.e.Account)}}}, nil
}

func (r *restoring) seen(_ context.Context, holder account.Account, err error) (next, error) {
	r.holder = holder
	switch is := holder.Field(r.s.Kind); {
	case errors.Is(err, system.ErrGone):
		r.s.Result = membership.Already
	case err != nil:
		return nextSend, err
	case is.Filled():
		if r.s.Result = membership.Already; is.Text() != r.e.Account {
			r.e.Find(account.Warning, account.ChangedSince, r.s.Kind, "", fmt.Sprintf("the %s of %s is another now, and stays so", r.s.Kind, r.s.Name))
		}
	default:
		return nextSend, nil
	}
	return nextNothing, nil
}

func (r *restoring) came(_ context.Context, _ account.Account, err error) (next, error) {
	var refusal *system.Refusal
	switch {
	case err == nil:
		r.s.Result = membership.Done
	case errors.As(err, &refusal):
		r.s.Result = membership.Failed
		r.e.Find(account.Error, refusal.Code, r.s.Kind, "", fmt.Sprintf("the account is there, but is not the %s of %s: %s", r.s.Kind, r.s.Name, refusal.Message))
	case errors.Is(err, system.ErrChanged), errors.Is(err, system.ErrGone), isOpen(err): // what is there tells
		return nextLook, nil
	default:
		return nextSend, err
	}
	return nextNothing, nil
}

func (r *restoring) left() {
	why := fmt.Sprintf("the system gave no clear answer %d times when it was to be the %s of %s", maxAttempts, r.s.Kind, r.s.Name)
	if r.before {
		r.s.Result = membership.Failed
		r.e.Find(account.Error, account.Unclear, r.s.Kind, "", why+", as in an earlier post")
		return
	}
	r.p.open(r.e, 1, why)
}
