package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// references sets the fields that refer to accounts which the same sheet created.
func (p *run) references(ctx context.Context, _ func(error)) error {
	return p.pending(ctx, membership.Refer, func(window []batch.Entry) error {
		var rows []int
		total := 0
		for _, e := range window {
			for _, s := range e.Steps {
				if s.Do == membership.Refer && s.Result == "" {
					rows = append(rows, s.Row)
					total++
				}
			}
		}
		p.begin("references", total)
		accounts, outcomes, err := p.Ledger.Accounts(ctx, p.Batch.ID, rows)
		if err != nil {
			return err
		}
		return p.oneByOne(ctx, window, func(ctx context.Context, e *batch.Entry) error { return p.refer(ctx, e, accounts, outcomes) })
	})
}

// A reference is what an entry's account is to refer to, once those accounts are there.
type reference struct {
	*run
	entry   *batch.Entry
	changes []account.Change
	steps   []int // of the entry, which the changes carry out
}

// refer carries out the references of one entry: only where each still says what it
// said when it was drafted.
func (p *run) refer(ctx context.Context, e *batch.Entry, accounts map[int]string, outcomes map[int]account.Outcome) error {
	r := &reference{run: p, entry: e}
	for i, s := range e.Steps {
		switch {
		case s.Do != membership.Refer || s.Result != "":
		case accounts[s.Row] != "":
			r.changes = append(r.changes, account.Change{Field: s.Kind, Before: e.Known[s.Kind], After: account.Of(accounts[s.Row])})
			r.steps = append(r.steps, i)
		case !outcomes[s.Row].Waits():
			e.Steps[i].Result = membership.Failed
			e.Find(account.Error, account.UnknownPerson, s.Kind, "", fmt.Sprintf("the account is there, but its %s was not set: the one in row %d was not created", s.Kind, s.Row))
		}
	}
	if len(r.changes) == 0 {
		r.settle("")
		return nil
	}
	return r.carryOut(ctx)
}

// settle notes what became of the references.
func (r *reference) settle(result membership.Result) {
	for _, i := range r.steps {
		r.entry.Steps[i].Result = result
	}
	r.clear(r.entry)
	r.entry.Settle()
	r.results <- resultOf(r.entry)
	r.advance(len(r.steps))
}

// fail tells why the references were not set.
func (r *reference) fail(code account.Code, why string) {
	r.entry.Find(account.Error, code, r.changes[0].Field, "", fmt.Sprintf("the account is there, but its %s was not set: %s", r.changes[0].Field, why))
	r.settle(membership.Failed)
}

func (r *reference) carryOut(ctx context.Context) error {
	known := account.Account{ID: r.entry.Account, Version: r.entry.Version, Fields: map[string]account.Value{}}
	look := r.again || known.Version == "" || !r.about.Can.Versions
	fields := r.fields()
	for _, c := range r.changes {
		fields = append(fields, c.Field)
	}
	unclear, before := r.again, wasOpen(r.entry)
	for attempts := 0; attempts < maxAttempts; {
		var now account.Account
		var err error
		if look {
			if now, err = r.System.Get(system.Stopping(ctx), known.ID, fields); err == nil && r.settled(ctx, now, unclear) {
				return nil
			}
			known.Version = now.Version
		}
		if err == nil {
			now, err = system.Change(ctx, r.System, known, r.changes, fields)
			attempts++
		}
		var refusal *system.Refusal
		switch {
		case err == nil:
			r.entry.Version = now.Version
			r.settle(membership.Done)
			return nil
		case isOpen(err):
			look, unclear = true, true
		case errors.Is(err, system.ErrChanged):
			look = true
		case (errors.Is(err, system.ErrGone) || errors.As(err, &refusal)) && r.unseen(ctx):
			attempts = 0 // one of the accounts is new, and not known everywhere yet
		case system.Stopping(ctx).Err() != nil:
			return nil // it was stopped while it waited for that: nothing is known of it
		case (errors.Is(err, system.ErrGone) || errors.As(err, &refusal)) && !before && r.late(ctx, known.ID):
			r.open(r.entry, len(r.steps), fmt.Sprintf("the %s could not be set yet: the system does not show all of the new accounts within %s, the “settle” of evenledger.yaml", r.changes[0].Field, r.Settle))
			r.results <- resultOf(r.entry)
			return nil
		case errors.Is(err, system.ErrGone):
			r.fail(account.AccountGone, fmt.Sprintf("the account %s is no longer in the system", known.ID))
			return nil
		case errors.As(err, &refusal):
			r.fail(refusal.Code, refusal.Message)
			return nil
		default:
			return err
		}
	}
	if before {
		r.fail(account.Unclear, fmt.Sprintf("the system gave no clear answer %d times, as in an earlier post", maxAttempts))
		return nil
	}
	r.open(r.entry, len(r.steps), fmt.Sprintf("the system gave no clear answer %d times when the %s was to be set", maxAttempts, r.changes[0].Field))
	r.results <- resultOf(r.entry)
	return nil
}

// late reports whether the account or one that it refers to is of this batch, and the system does not show
// it yet.
func (r *reference) late(ctx context.Context, id string) bool {
	ids := []string{}
	if r.entry.Did == account.Created {
		ids = append(ids, id)
	}
	for _, c := range r.changes {
		ids = append(ids, c.After.Text())
	}
	return slices.ContainsFunc(ids, func(id string) bool {
		_, err := r.System.Get(system.Stopping(ctx), id, r.fields())
		return errors.Is(err, system.ErrGone)
	})
}

// settled settles the references if the account has them already, or somebody changed
// them since the draft. They are ours if a request of ours may have set them.
func (r *reference) settled(ctx context.Context, now account.Account, ours bool) bool {
	if r.carriedOut(r.changes, now) {
		result := membership.Already
		if ours {
			result = membership.Done
		}
		r.entry.Version = now.Version
		r.settle(result)
		return true
	}
	for _, c := range r.changes {
		if is := now.Field(c.Field).Text(); is != c.Before.Text() && is != c.After.Text() && !r.followed(c.Field, c.Before.Text()) {
			r.fail(account.Stale, fmt.Sprintf("since the draft it changed from “%s” to “%s” in the system", r.said(ctx, c.Field, c.Before.Text()), r.said(ctx, c.Field, is)))
			return true
		}
	}
	return false
}
