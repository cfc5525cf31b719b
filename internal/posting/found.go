package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/secret"
	"evenledger/internal/system"
)

// lookFor looks whether the entry's account was made after all, until patience
// runs out, as a new account may take a while to be seen, and settles the entry if one
// is there.
func (p *run) lookFor(ctx context.Context, e *batch.Entry, s sent, patience time.Duration) (found bool, err error) {
	missing, err := p.lookForAll(ctx, []*batch.Entry{e}, func(*batch.Entry) sent { return s }, patience)
	return err == nil && len(missing) == 0, err
}

// lookForAll does so for many, and returns those whose account was not found.
func (p *run) lookForAll(ctx context.Context, entries []*batch.Entry, sentOf func(*batch.Entry) sent, patience time.Duration) (missing []*batch.Entry, err error) {
	found, err := p.seek(ctx, entries, patience)
	for _, e := range entries {
		a, there := found[e]
		if !there {
			missing = append(missing, e)
			continue
		}
		s := sentOf(e)
		ours, lacks := p.ours(a, e, s), false
		if ours && err == nil {
			lacks, err = p.fillUp(ctx, e, a)
		}
		if err != nil { // it stays open, and is found again
			missing = append(missing, e)
			continue
		}
		switch {
		case ours && lacks:
			p.lacking(e, a)
		case ours:
			// Another ledger may have made it just then, of the same sheet, and handed its own password out. Where
			// an account is made in pieces, ours has been set just now.
			if p.created(e, a); !p.about.Can.Piecemeal {
				p.withhold(e)
			}
		default:
			when := ""
			if !a.Made.IsZero() {
				when = fmt.Sprintf(" at %s", a.Made.Local().Format(time.TimeOnly))
			}
			p.clear(e)
			p.fail(e, account.PerhapsMade, "", fmt.Sprintf("the account %s (%s) is there%s, and it cannot be told whether this batch made it, by the request of %s, or somebody else", a.Label(), a.ID, when, s.first.Local().Format(time.TimeOnly)))
		}
	}
	return missing, err
}

// lacking settles an entry whose account is there, and does not have all that it was to have.
func (p *run) lacking(e *batch.Entry, a account.Account) {
	p.withhold(e)
	p.created(e, a)
	e.Outcome, e.Part = account.Failed, []string{}
	for _, c := range system.Carried(p.about.Schema, e.Changes, a) {
		e.Part = append(e.Part, c.Field)
	}
	unsent(e)
}

// fillUp gives an account that was found what it may lack where its making was cut off, and reports
// whether it lacks something all the same.
func (p *run) fillUp(ctx context.Context, e *batch.Entry, a account.Account) (lacks bool, err error) {
	if !p.about.Can.Piecemeal {
		return false, nil
	}
	wanted, err := p.wantedOf(e)
	if err != nil {
		return false, err
	}
	err = system.Complete(ctx, p.may, p.System, a, wanted)
	var refusal *system.Refusal
	if errors.As(err, &refusal) {
		e.Find(account.Error, account.PartlyDone, refusal.Field, "", "the account was made, and what was to follow at once was refused: "+refusal.Message)
		return true, nil
	}
	if err != nil {
		return false, &system.Unclear{Err: err}
	}
	return false, nil
}

// seek looks for the accounts of entries until all were found or patience runs out.
// An error means that it is still open what became of the requests.
func (p *run) seek(ctx context.Context, entries []*batch.Entry, patience time.Duration) (map[*batch.Entry]account.Account, error) {
	missing := slices.Clone(entries)
	found := map[*batch.Entry]account.Account{}
	for pause := 100 * time.Millisecond; ; pause *= 2 {
		index, err := p.byKeys(ctx, missing, 1)
		if err != nil {
			return found, &system.Unclear{Err: err}
		}
		for _, e := range missing {
			for field, value := range p.keys(*e) {
				for _, a := range index.Find(field, value) {
					if p.isOf(*a, e) {
						found[e] = *a
					}
				}
			}
		}
		missing = slices.DeleteFunc(missing, func(e *batch.Entry) bool { _, there := found[e]; return there })
		if len(missing) == 0 || patience <= 0 {
			return found, nil
		}
		pause = min(pause, patience)
		patience -= pause
		if err := p.Clock.Wait(ctx, pause); err != nil {
			return found, &system.Unclear{Err: err}
		}
	}
}

// byKeys fetches the accounts that have a key of one of the entries.
func (p *run) byKeys(ctx context.Context, entries []*batch.Entry, together int) (*batch.Index, error) {
	keys := map[string][]string{}
	for _, e := range entries {
		for field, value := range p.keys(*e) {
			keys[field] = append(keys[field], value)
		}
	}
	var fields []account.Field
	for field := range keys {
		fields = append(fields, p.about.Field(field))
	}
	index := batch.NewIndex(fields, keys)
	if len(keys) == 0 {
		return index, nil
	}
	_, err := system.Fetch(ctx, p.System, keys, p.fields(), together, index.Add)
	return index, err
}

// isOf reports whether an account is the entry's: all its keys agree.
func (p *run) isOf(a account.Account, e *batch.Entry) bool {
	keys := p.keys(*e)
	for field, value := range keys {
		if f := p.about.Field(field); !f.One(a.Field(field).Text(), value) {
			return false
		}
	}
	return len(keys) > 0
}

// How far clocks, and the second that servers round to, may be apart.
const slack = 3 * time.Second

// ours reports whether an account that was found under an entry's keys was made by our request, by the time
// at which it was made and by what was sent. Where the system does not say when, all that was sent has to be
// in it.
func (p *run) ours(a account.Account, e *batch.Entry, s sent) bool {
	filled, same, other := 0, 0, 0
	for _, c := range e.Changes {
		if !c.After.Filled() {
			continue
		}
		filled++
		switch is := a.Field(c.Field); {
		case p.about.Field(c.Field).Same(is.Text(), c.After.Text()):
			same++
		case is.Filled():
			other++
		}
	}
	if a.Made.IsZero() {
		return same == filled
	}
	within := !a.Made.Before(s.first.Add(-slack)) && !a.Made.After(s.last.Add(p.Timeout+slack))
	return within && 4*other <= filled && 2*same >= filled
}

// withhold has an account's generated password given to nobody: it may be another one
// that was set.
func (p *run) withhold(e *batch.Entry) {
	if e.Secret == "" || secret.IsGiven(e.Secret) {
		return
	}
	e.Find(account.Warning, account.PasswordNotKnown, "password", "", "the account was there when the post came to it, and it cannot be told whether the password made for it was set: it is handed out to nobody")
	p.counting.Lock()
	defer p.counting.Unlock()
	p.withheld[e.Row] = true
}
