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
		p.begin("references by name", len(window))
		sending := system.Ending(ctx)
		done, left, err := follower.Follow(sending, moved)
		if err != nil {
			return err
		}
		ours, stays, why := map[[3]string]bool{}, map[string][]system.Reference{}, map[[3]string]string{}
		for _, r := range done {
			ours[[3]string{r.Account, r.Kind, r.Holder}] = true
		}
		for _, r := range left {
			stays[r.Account] = append(stays[r.Account], r)
			why[[3]string{r.Account, r.Kind, r.Holder}] = r.Why
		}
		now := map[[3]string]bool{}
		for r, err := range follower.Referring(sending, called) {
			if err != nil {
				return err
			}
			now[[3]string{r.Account, r.Kind, r.Holder}] = true
		}
		for i := range window {
			e := &window[i]
			for _, r := range stays[e.Account] {
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
				key := [3]string{e.Account, s.Kind, s.Thing}
				switch {
				case s.Kind == "":
					s.Result = membership.Done
				case s.Again:
					if err := p.referAgain(sending, e, s); err != nil {
						return err
					}
				case ours[key] && now[key]:
					s.Result = membership.Done
				case now[key]:
					s.Result = membership.Already
				case why[key] != "":
					s.Result = membership.Failed
					e.Find(account.Error, account.SystemRefused, s.Kind, "", fmt.Sprintf("the account is there, but not that it %s: %s", s.Text(), why[key]))
				default:
					s.Result = membership.Failed
					e.Find(account.Error, account.LostReference, s.Kind, "", fmt.Sprintf("the account is there, but not that it %s: %s does not have it any more", s.Text(), s.Name))
				}
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

func waitsToStay(s membership.Step) bool { return s.Do == membership.Stay && s.Waits() }

// referAgain has another account refer to one that was made again, unless it refers to somebody else by now.
func (p *run) referAgain(ctx context.Context, e *batch.Entry, s *membership.Step) error {
	before := wasOpen(e)
	for range maxAttempts {
		holder, err := p.System.Get(system.Stopping(ctx), s.Thing, []string{s.Kind})
		switch is := holder.Field(s.Kind); {
		case errors.Is(err, system.ErrGone):
			s.Result = membership.Already
			return nil
		case err != nil:
			return err
		case is.Filled():
			if s.Result = membership.Already; is.Text() != e.Account {
				e.Find(account.Warning, account.ChangedSince, s.Kind, "", fmt.Sprintf("the %s of %s is another now, and stays so", s.Kind, s.Name))
			}
			return nil
		}
		_, err = system.Change(ctx, p.System, holder, []account.Change{{Field: s.Kind, Before: holder.Field(s.Kind), After: account.Of(e.Account)}}, nil)
		var refusal *system.Refusal
		switch {
		case err == nil:
			s.Result = membership.Done
			return nil
		case errors.As(err, &refusal):
			s.Result = membership.Failed
			e.Find(account.Error, refusal.Code, s.Kind, "", fmt.Sprintf("the account is there, but is not the %s of %s: %s", s.Kind, s.Name, refusal.Message))
			return nil
		case errors.Is(err, system.ErrChanged), errors.Is(err, system.ErrGone), isOpen(err): // what is there tells
		default:
			return err
		}
	}
	why := fmt.Sprintf("the system gave no clear answer %d times when it was to be the %s of %s", maxAttempts, s.Kind, s.Name)
	if before {
		s.Result = membership.Failed
		e.Find(account.Error, account.Unclear, s.Kind, "", why+", as in an earlier post")
		return nil
	}
	p.open(e, 1, why)
	return nil
}
