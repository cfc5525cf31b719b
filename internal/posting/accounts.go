package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// isOpen reports whether an error leaves it open what became of the request.
func isOpen(err error) bool {
	var unclear *system.Unclear
	return errors.As(err, &unclear)
}

// keys are the fields and values by which the entry's account is found.
func (p *Post) keys(e batch.Entry) map[string]string {
	keys := map[string]string{}
	for _, change := range e.Changes {
		if change.After.Filled() && slices.Contains(p.Batch.Match, change.Field) {
			keys[change.Field] = change.After.Text()
		}
	}
	return keys
}

func (p *Post) fields() []string {
	if slices.Contains(p.Batch.Fields, "userName") {
		return p.Batch.Fields
	}
	return append([]string{"userName"}, p.Batch.Fields...)
}

// carryOut sends the entry's request and settles its outcome. An error means
// that the post cannot go on; then the entry's outcome is Waiting if nothing
// came of it.
func (p *Post) carryOut(ctx context.Context, e *batch.Entry) error {
	switch {
	case e.Intent == account.Create:
		return p.create(ctx, e, p.resent[e.Row])
	case e.Intent == account.Remove:
		return p.remove(ctx, e)
	case len(e.Changes) == 0:
		e.Did = e.Intent.Comes() // only steps follow
		e.Settle()
		return nil
	}
	return p.change(ctx, e)
}

// create makes the entry's account. It is unclear if an earlier request may have
// made it.
func (p *Post) create(ctx context.Context, e *batch.Entry, unclear bool) error {
	wanted, err := p.wantedOf(e)
	if err != nil {
		return err
	}
	if unclear {
		if found, err := p.lookFor(ctx, e, 0); err != nil || found {
			return err
		}
	}
	for range maxAttempts {
		made, err := p.System.Create(ctx, wanted, p.fields())
		var refusal *system.Refusal
		switch {
		case err == nil:
			p.created(e, made)
			return nil
		case isOpen(err):
			unclear = true
			if found, err := p.lookFor(ctx, e, p.Settle); err != nil || found {
				return err
			}
		case errors.As(err, &refusal):
			if unclear && refusal.Code == "taken-value" {
				// The earlier request may have been carried out after all.
				if found, err := p.lookFor(ctx, e, p.Settle); err != nil || found {
					return err
				}
			}
			p.fail(e, refusal.Code, refusal.Field, without(refusal.Message, wanted.Password))
			return nil
		case errors.Is(err, system.ErrGone):
			p.fail(e, "system-refused", "", "the system has no place to create accounts in")
			return nil
		default:
			return stillOpen(unclear, err)
		}
	}
	p.fail(e, "unclear", "", fmt.Sprintf("the system gave no clear answer %d times, and no such account appeared", maxAttempts))
	return nil
}

// stillOpen keeps it open what became of an earlier request when the one that
// followed could not be sent.
func stillOpen(unclear bool, err error) error {
	if unclear {
		return &system.Unclear{Err: err}
	}
	return err
}

func (p *Post) created(e *batch.Entry, made account.Account) {
	e.Did, e.Account, e.Version = account.Created, made.ID, made.Version
	p.made.Store(true)
	p.told(e, made)
	e.Settle()
}

// without takes a password out of what a system says.
func without(message, password string) string {
	if password == "" {
		return message
	}
	return strings.ReplaceAll(message, password, "(the password)")
}

// told notes what the system kept otherwise than it was sent.
func (p *Post) told(e *batch.Entry, now account.Account) {
	for _, f := range system.NotKept(e.Changes, now) {
		f.Row = e.Row
		e.Findings = append(e.Findings, f)
	}
}

// lookFor looks whether the entry's account was made after all, until patience
// runs out, as a new account may take a while to be seen.
func (p *Post) lookFor(ctx context.Context, e *batch.Entry, patience time.Duration) (found bool, err error) {
	missing, err := p.lookForAll(ctx, []*batch.Entry{e}, patience)
	return err == nil && len(missing) == 0, err
}

// lookForAll does so for many, and returns those whose account was not found.
func (p *Post) lookForAll(ctx context.Context, missing []*batch.Entry, patience time.Duration) ([]*batch.Entry, error) {
	for pause := 100 * time.Millisecond; ; pause *= 2 {
		keys := map[string][]string{}
		for _, e := range missing {
			for field, value := range p.keys(*e) {
				keys[field] = append(keys[field], value)
			}
		}
		hits := map[*batch.Entry]account.Account{}
		_, err := system.Fetch(ctx, p.System, keys, p.fields(), 1, func(a account.Account) {
			for _, e := range missing {
				if p.isOf(a, e) {
					hits[e] = a
				}
			}
		})
		if err != nil {
			// It is still open what became of the request.
			return missing, &system.Unclear{Err: err}
		}
		missing = slices.DeleteFunc(slices.Clone(missing), func(e *batch.Entry) bool {
			a, found := hits[e]
			if found {
				p.created(e, a)
			}
			return found
		})
		if len(missing) == 0 || patience <= 0 {
			return missing, nil
		}
		pause = min(pause, patience)
		patience -= pause
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return missing, ctx.Err()
		}
	}
}

// isOf reports whether an account is the entry's: all its keys agree.
func (p *Post) isOf(a account.Account, e *batch.Entry) bool {
	keys := p.keys(*e)
	for field, value := range keys {
		if f := batch.NamedField(field); !f.Same(a.Field(field).Text(), value) {
			return false
		}
	}
	return len(keys) > 0
}

func (p *Post) change(ctx context.Context, e *batch.Entry) error {
	known := account.Account{ID: e.Account, Version: e.Version, Fields: e.Known}
	versioner, ok := p.System.(system.Versioner)
	look := known.Version == "" || !ok || !versioner.Versions()
	unclear := false
	for range maxAttempts {
		if look {
			settled, now, err := p.settleChange(ctx, e, unclear)
			if err != nil || settled {
				return err
			}
			known.Version = now.Version
		}
		now, err := p.System.Change(ctx, known, e.Changes, p.fields())
		var refusal *system.Refusal
		switch {
		case err == nil:
			p.changed(e, now)
			p.told(e, now)
			return nil
		case isOpen(err):
			look, unclear = true, true
		case errors.Is(err, system.ErrChanged):
			look = true
		case errors.Is(err, system.ErrGone):
			p.gone(e)
			return nil
		case errors.As(err, &refusal):
			p.fail(e, refusal.Code, refusal.Field, refusal.Message)
			return nil
		default:
			return stillOpen(unclear, err)
		}
	}
	if unclear {
		p.fail(e, "unclear", "", fmt.Sprintf("the system gave no clear answer %d times, and the account is as it was", maxAttempts))
		return nil
	}
	e.Find(account.Error, "stale", "", "", "the account kept changing while it was to be changed")
	p.refuse(e)
	return nil
}

func (p *Post) changed(e *batch.Entry, now account.Account) {
	e.Did, e.Version = e.Intent.Comes(), now.Version
	e.Settle()
}

// remove removes the entry's account. One that is gone already is as it should be.
func (p *Post) remove(ctx context.Context, e *batch.Entry) error {
	remover, ok := p.System.(system.Remover)
	if !ok {
		p.fail(e, "system-refused", "", "the accounts of this system cannot be removed")
		return nil
	}
	known := account.Account{ID: e.Account, Version: e.Version, Fields: e.Known}
	unclear := false
	for range maxAttempts {
		now, err := p.System.Get(ctx, e.Account, p.fields())
		if err == nil {
			if field, before, after, differs := difference(p.Batch.Fields, e.Known, now); differs {
				p.stale(e, field, before, after)
				return nil
			}
			known.Version = now.Version
			err = remover.Remove(ctx, known)
		} else if unclear && !errors.Is(err, system.ErrGone) {
			return &system.Unclear{Err: err}
		}
		var refusal *system.Refusal
		switch {
		case err == nil, errors.Is(err, system.ErrGone):
			e.Did = account.Removed
			e.Settle()
			return nil
		case isOpen(err):
			unclear = true
		case errors.Is(err, system.ErrChanged):
		case errors.As(err, &refusal):
			p.fail(e, refusal.Code, refusal.Field, refusal.Message)
			return nil
		default:
			return stillOpen(unclear, err)
		}
	}
	p.fail(e, "unclear", "", fmt.Sprintf("the system gave no clear answer %d times, and the account is still there", maxAttempts))
	return nil
}

// settleChange reads the account and settles the entry if that is possible: it
// is stale, gone, or has been changed by a request whose answer was lost.
// Otherwise the account is as drafted and is returned.
func (p *Post) settleChange(ctx context.Context, e *batch.Entry, unclear bool) (settled bool, now account.Account, err error) {
	now, err = p.System.Get(ctx, e.Account, p.fields())
	switch {
	case errors.Is(err, system.ErrGone) && e.Intent == account.Remove:
		e.Did = account.Removed
		e.Settle()
		return true, now, nil
	case errors.Is(err, system.ErrGone):
		p.gone(e)
		return true, now, nil
	case err != nil && unclear:
		return false, now, &system.Unclear{Err: err}
	case err != nil:
		return false, now, err
	}
	if unclear && e.Intent != account.Remove && carriedOut(e.Changes, now) {
		p.changed(e, now)
		return true, now, nil
	}
	if field, before, after, differs := difference(p.Batch.Fields, e.Known, now); differs {
		p.stale(e, field, before, after)
		return true, now, nil
	}
	return false, now, nil
}

func (p *Post) stale(e *batch.Entry, field, before, after string) {
	e.Find(account.Error, "stale", field, "", fmt.Sprintf("since the draft %s changed from “%s” to “%s” in the system", field, before, after))
	p.refuse(e)
}

// carriedOut reports whether the account has what the changes would give it.
func carriedOut(changes []account.Change, now account.Account) bool {
	return !slices.ContainsFunc(changes, func(c account.Change) bool {
		return !batch.NamedField(c.Field).Same(c.After.Text(), now.Field(c.Field).Text())
	})
}

func difference(fields []string, known map[string]account.Value, now account.Account) (field, before, after string, differs bool) {
	for _, name := range fields {
		was, is := known[name].Text(), now.Field(name).Text()
		if was != is {
			return name, was, is, true
		}
	}
	return "", "", "", false
}

func (p *Post) gone(e *batch.Entry) {
	p.fail(e, "account-gone", "", fmt.Sprintf("the account %s is no longer in the system", e.Account))
}

func (p *Post) fail(e *batch.Entry, code, field, message string) {
	e.Find(account.Error, code, field, "", message)
	e.Outcome = account.Failed
	unsent(e)
}

func (p *Post) refuse(e *batch.Entry) {
	e.Outcome = account.Refused
	unsent(e)
}

// unsent marks the steps that will not be sent, as the account's own was not done.
func unsent(e *batch.Entry) {
	for i := range e.Steps {
		e.Steps[i].Result = membership.Unsent
	}
}
