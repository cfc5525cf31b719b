package posting

import (
	"context"
	"errors"
	"fmt"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// passwords gives accounts that were there before other passwords. Nobody can read whether
// one was set: what is not clear is sent again, with the same password.
func (p *run) passwords(ctx context.Context, _ func(error)) error {
	return p.pending(ctx, membership.Renew, func(window []batch.Entry) error {
		p.begin("passwords", len(window))
		return p.inGroups(ctx, window, system.Renews, func(_ context.Context, e *batch.Entry) (errand, error) {
			r := &renewing{p: p, e: e, step: stepOf(e, membership.Renew), version: e.Version, progress: progress{unclear: p.again, before: wasOpen(e)}}
			if r.step.Choose != "" {
				r.also = append(r.also, account.Change{Field: r.step.Choose, After: account.Of("true")})
			}
			return r, nil
		})
	})
}

// A renewing gives an account another password.
type renewing struct {
	progress
	p       *run
	e       *batch.Entry
	step    *membership.Step
	also    []account.Change
	version string
}

func (r *renewing) does() system.Verb { return system.Renews }
func (r *renewing) account() string   { return r.e.Account }
func (r *renewing) touches() []string { return nil }

func (r *renewing) order() (system.Order, error) {
	password, err := r.p.Vault.Open(r.e.Row, r.e.Secret)
	if err != nil {
		return system.Order{}, fmt.Errorf("the password of row %d cannot be opened: %w", r.e.Row, err)
	}
	password, _ = r.e.Password(password)
	r.p.Mask.Add(password)
	return system.Order{Does: system.Renews, Known: account.Account{ID: r.e.Account, Version: r.version}, Wanted: account.Account{Password: password}, Changes: r.also}, nil
}

// seen has it sent whatever is there: no account shows which password it has.
func (r *renewing) seen(context.Context, account.Account, error) (next, error) { return nextSend, nil }

func (r *renewing) came(ctx context.Context, _ account.Account, err error) (next, error) {
	var refusal *system.Refusal
	var partly *system.Partial
	switch {
	case err == nil:
		r.end(membership.Done)
	case errors.As(err, &partly):
		r.e.Find(account.Warning, account.NotKept, "password", "", "the password is set, and the person does not have to choose another: "+partly.Err.Error())
		r.end(membership.Done)
	case errors.Is(err, system.ErrChanged), isOpen(err):
		// What it is was seen when the account's own step was carried out; our own
		// request before this one may have changed it.
		r.version = ""
		r.unclear = r.unclear || isOpen(err)
		return nextSend, nil
	case errors.Is(err, system.ErrGone):
		r.fail(account.AccountGone, fmt.Sprintf("the account %s is no longer in the system", r.e.Account))
	case errors.As(err, &refusal) && r.unclear:
		r.fail(refusal.Code, refusal.Message+" (it was sent before without a clear answer, so it may be set already)")
	case errors.As(err, &refusal):
		if another, err := r.p.remade(ctx, r.e, refusal); err != nil || another {
			r.version = r.e.Version
			return nextAnew, err
		}
		r.fail(refusal.Code, refusal.Message)
	default:
		return nextSend, err
	}
	return nextNothing, nil
}

func (r *renewing) left() {
	why := fmt.Sprintf("the system gave no clear answer %d times when the password was to be set", maxAttempts)
	if r.before {
		r.fail(account.Unclear, why+", as in an earlier post; it may be set")
		return
	}
	r.p.open(r.e, 1, why)
	r.end("")
}

func (r *renewing) fail(code account.Code, why string) {
	r.e.Find(account.Error, code, "password", "", "the account did not get another password: "+why)
	r.end(membership.Failed)
}

// end notes what became of it; empty: it is still to be done.
func (r *renewing) end(result membership.Result) {
	r.step.Result = result
	if r.e.Settle(); result != "" {
		r.p.clear(r.e)
		r.p.advance(1)
	}
	r.p.results <- resultOf(r.e)
}

// remade notes that a password which was made is refused, before the one that takes its place is sent, and reports whether there is one.
func (p *run) remade(ctx context.Context, e *batch.Entry, refusal *system.Refusal) (another bool, err error) {
	if refusal.Field != "password" || e.Secret == "" {
		return false, nil
	}
	opened, err := p.Vault.Open(e.Row, e.Secret)
	if err != nil {
		return false, err
	}
	if _, more := e.Password(opened); !more {
		return false, nil
	}
	e.Find(account.Note, account.PasswordRemade, "password", "", "the password that was made was refused, and another was made: "+refusal.Message)
	return true, p.settle(ctx, []store.Result{resultOf(e)})
}
