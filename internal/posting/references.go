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
		return p.inGroups(ctx, window, system.Changes, func(_ context.Context, e *batch.Entry) (errand, error) {
			r := p.referenceOf(e, accounts, outcomes)
			if len(r.changes) == 0 {
				r.end("")
				return nil, nil
			}
			return r, nil
		})
	})
}

// A referring has an entry's account refer to others, once those are there: only where each field still says what it said when it was
// drafted.
type referring struct {
	progress
	p       *run
	e       *batch.Entry
	changes []account.Change
	steps   []int // of the entry, which the changes carry out
	version string
}

// referenceOf is what an entry's account is to refer to.
func (p *run) referenceOf(e *batch.Entry, accounts map[int]string, outcomes map[int]account.Outcome) *referring {
	r := &referring{p: p, e: e, version: e.Version, progress: progress{unclear: p.again, before: wasOpen(e)}}
	r.look = p.again || e.Version == "" || !p.about.Can.Versions
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
	return r
}

func (r *referring) does() system.Verb { return system.Changes }
func (r *referring) account() string   { return r.e.Account }

func (r *referring) touches() (fields []string) {
	for _, c := range r.changes {
		fields = append(fields, c.Field)
	}
	return fields
}

func (r *referring) order() (system.Order, error) {
	return system.Order{Does: system.Changes, Known: account.Account{ID: r.e.Account, Version: r.version, Fields: map[string]account.Value{}}, Changes: r.changes}, nil
}

// seen settles the references if the account has them already, or somebody changed
// them since the draft. They are ours if a request of ours may have set them.
func (r *referring) seen(ctx context.Context, now account.Account, err error) (next, error) {
	if err != nil {
		return r.came(ctx, now, err)
	}
	r.version = now.Version
	if r.p.carriedOut(r.changes, now) {
		result := membership.Already
		if r.unclear {
			result = membership.Done
		}
		r.e.Version = now.Version
		r.end(result)
		return nextNothing, nil
	}
	for _, c := range r.changes {
		if is := now.Field(c.Field).Text(); is != c.Before.Text() && is != c.After.Text() && !r.p.followed(c.Field, c.Before.Text()) {
			r.fail(account.Stale, fmt.Sprintf("since the draft it changed from “%s” to “%s” in the system", r.p.said(ctx, c.Field, c.Before.Text()), r.p.said(ctx, c.Field, is)))
			return nextNothing, nil
		}
	}
	return nextSend, nil
}

func (r *referring) came(ctx context.Context, now account.Account, err error) (next, error) {
	var refusal *system.Refusal
	no := errors.Is(err, system.ErrGone) || errors.As(err, &refusal)
	switch {
	case err == nil:
		r.e.Version = now.Version
		r.end(membership.Done)
	case isOpen(err):
		return nextUnclear, nil
	case errors.Is(err, system.ErrChanged):
		return nextLook, nil
	case no && r.p.mayBeUnseen(): // one of the accounts is new, and not known everywhere yet
		return nextWait, nil
	case no && !r.before && r.late(ctx):
		r.stays(fmt.Sprintf("the %s could not be set yet: the system does not show all of the new accounts within %s, the “settle” of evenledger.yaml", r.changes[0].Field, r.p.Settle))
	case errors.Is(err, system.ErrGone):
		r.fail(account.AccountGone, fmt.Sprintf("the account %s is no longer in the system", r.e.Account))
	case errors.As(err, &refusal):
		r.fail(refusal.Code, refusal.Message)
	default:
		return nextSend, err
	}
	return nextNothing, nil
}

func (r *referring) left() {
	if r.before {
		r.fail(account.Unclear, fmt.Sprintf("the system gave no clear answer %d times, as in an earlier post", maxAttempts))
		return
	}
	r.stays(fmt.Sprintf("the system gave no clear answer %d times when the %s was to be set", maxAttempts, r.changes[0].Field))
}

// late reports whether the account or one that it refers to is of this batch, and the system does not show
// it yet.
func (r *referring) late(ctx context.Context) bool {
	ids := []string{}
	if r.e.Did == account.Created {
		ids = append(ids, r.e.Account)
	}
	for _, c := range r.changes {
		ids = append(ids, c.After.Text())
	}
	return slices.ContainsFunc(ids, func(id string) bool {
		_, err := r.p.System.Get(ctx, id, r.p.fields())
		return errors.Is(err, system.ErrGone)
	})
}

// stays leaves the references open: a further post looks before it sets them.
func (r *referring) stays(why string) {
	r.p.open(r.e, len(r.steps), why)
	r.p.results <- resultOf(r.e)
}

// fail tells why the references were not set.
func (r *referring) fail(code account.Code, why string) {
	r.e.Find(account.Error, code, r.changes[0].Field, "", fmt.Sprintf("the account is there, but its %s was not set: %s", r.changes[0].Field, why))
	r.end(membership.Failed)
}

// end notes what became of the references.
func (r *referring) end(result membership.Result) {
	for _, i := range r.steps {
		r.e.Steps[i].Result = result
	}
	r.p.clear(r.e)
	r.e.Settle()
	r.p.results <- resultOf(r.e)
	r.p.advance(len(r.steps))
}
