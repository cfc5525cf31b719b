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
		return p.oneByOne(ctx, window, p.renew)
	})
}

// renew gives one account its other password.
func (p *run) renew(ctx context.Context, e *batch.Entry) error {
	step := stepOf(e, membership.Renew)
	password, err := p.Vault.Open(e.Row, e.Secret)
	if err != nil {
		return fmt.Errorf("the password of row %d cannot be opened: %w", e.Row, err)
	}
	password, _ = e.Password(password)
	p.Mask.Add(password)
	var also []account.Change
	if step.Choose != "" {
		also = append(also, account.Change{Field: step.Choose, After: account.Of("true")})
	}
	end := func(result membership.Result) error {
		step.Result = result
		p.clear(e)
		if e.Settle(); result != "" {
			p.advance(1)
		}
		p.results <- resultOf(e)
		return nil
	}
	fail := func(code account.Code, why string) error {
		e.Find(account.Error, code, "password", "", "the account did not get another password: "+why)
		return end(membership.Failed)
	}
	known, again, before := account.Account{ID: e.Account, Version: e.Version}, p.again, wasOpen(e)
	for range maxAttempts {
		err := system.SetPassword(ctx, p.System, known, password, also)
		var refusal *system.Refusal
		var partly *system.Partial
		switch {
		case err == nil:
			return end(membership.Done)
		case errors.As(err, &partly):
			e.Find(account.Warning, account.NotKept, "password", "", "the password is set, and the person does not have to choose another: "+partly.Err.Error())
			return end(membership.Done)
		case errors.Is(err, system.ErrChanged):
			// What it is was seen when the account's own step was carried out; our own
			// request before this one may have changed it.
			known.Version = ""
		case isOpen(err):
			known.Version, again = "", true
		case errors.Is(err, system.ErrGone):
			return fail(account.AccountGone, fmt.Sprintf("the account %s is no longer in the system", known.ID))
		case errors.As(err, &refusal) && again:
			return fail(refusal.Code, refusal.Message+" (it was sent before without a clear answer, so it may be set already)")
		case errors.As(err, &refusal):
			if another, err := p.remade(ctx, e, refusal); err != nil || another {
				if err != nil {
					return err
				}
				return p.renew(ctx, e)
			}
			return fail(refusal.Code, refusal.Message)
		default:
			return err
		}
	}
	if before {
		return fail(account.Unclear, fmt.Sprintf("the system gave no clear answer %d times, as in an earlier post; it may be set", maxAttempts))
	}
	p.open(e, 1, fmt.Sprintf("the system gave no clear answer %d times when the password was to be set", maxAttempts))
	return end("")
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
