package posting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Mails sends mails of a batch that wait for a person's word: those that were held, and with
// again those that were refused or of which nobody can say whether they arrived; of these
// rows, or of all if there are none. Those that would say what is not so any more stay where they
// are, with a finding that says why. It returns how many there were to send.
func (p *Post) Mails(ctx context.Context, rows []int, again bool) (n int, err error) {
	err = p.alone(ctx, func(ctx context.Context, r *run) error {
		n, err = r.sendHeld(ctx, rows, again)
		return err
	})
	return n, err
}

func (p *run) sendHeld(ctx context.Context, rows []int, again bool) (n int, err error) {
	wanted := []membership.Result{membership.Held, membership.Queued} // the latter where sending was cut short
	if again {
		wanted = append(wanted, membership.Failed, membership.Unclear, membership.Sending)
	}
	var entries []batch.Entry
	for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Does: membership.Notify, Rows: rows}) {
		if err != nil {
			return 0, err
		}
		if slices.ContainsFunc(e.Steps, func(s membership.Step) bool {
			return s.Do == membership.Notify && (slices.Contains(wanted, s.Result) || s.Result == membership.Sending)
		}) {
			entries = append(entries, e)
		}
	}
	if len(entries) == 0 {
		return 0, nil
	}
	if err := p.mayMail(); err != nil {
		return 0, err
	}
	if p.Batch.State == batch.Reversed {
		return 0, &batch.Guard{Message: fmt.Sprintf("batch %d was undone, and its mails would say what is not so", p.Batch.ID), Wrong: true}
	}
	if err := p.Batch.MayPost(p.URL); err != nil {
		return 0, err
	}
	now, err := p.lookAgainAt(ctx, entries)
	if err != nil {
		return 0, err
	}
	var queued []store.Result
	for _, e := range entries {
		open := false
		for i := range e.Steps {
			s := &e.Steps[i]
			switch {
			case s.Do != membership.Notify:
			case s.Result == membership.Sending && !again: // by who was killed: it is told as unclear
				open = true
			case slices.Contains(wanted, s.Result):
				e.Forget(s, account.NoticeLeftOut)
				if why := now.against(&e, s); why != "" {
					e.FindOf(s, account.Warning, account.NoticeLeftOut, fmt.Sprintf("the mail “%s” to %s was left out: %s", s.Name, s.To, why))
					switch s.Result {
					case membership.Queued:
						s.Result = membership.Held
					case membership.Sending:
						s.Result = membership.Unclear
					}
					continue
				}
				s.Result = membership.Queued
				open = true
				n++
			}
		}
		if e.Settle(); open {
			e.Outcome = account.Waiting
		}
		queued = append(queued, store.Result{Entry: e})
	}
	if err := p.settle(ctx, queued); err != nil {
		return 0, err
	}
	err = p.recorded(ctx, p.mails)
	_, waiting, countErr := p.Ledger.Counts(context.WithoutCancel(ctx), p.Batch.ID)
	if countErr == nil && len(waiting) == 0 {
		p.Batch.State = batch.Posted
	} else if countErr == nil && p.Batch.State == batch.Posted {
		p.Batch.State = batch.Stopped
	}
	return n, cmp.Or(errors.Join(err, countErr, p.Ledger.Save(context.WithoutCancel(ctx), p.Batch)), p.notSent())
}

// A meanwhile is what came of the accounts whose mails were held since the batch was posted.
type meanwhile struct {
	schema   *account.Schema
	accounts map[string]account.Account
	gone     map[string]bool
	written  map[string]int // account, notice and address → the later batch that wrote there
}

// lookAgainAt looks at the accounts whose mails are to go, and at what later batches wrote to them.
func (p *run) lookAgainAt(ctx context.Context, entries []batch.Entry) (*meanwhile, error) {
	about, err := p.System.Describe(ctx)
	if err != nil {
		return nil, err
	}
	now := &meanwhile{about.Schema, map[string]account.Account{}, map[string]bool{}, map[string]int{}}
	ids := map[string]bool{}
	for i := range entries {
		if e := &entries[i]; e.Account != "" && !p.leavesShut(e) {
			ids[e.Account] = true
		}
	}
	if len(ids) == 0 {
		return now, nil
	}
	fields := []string{about.Naming}
	for _, name := range []string{"email", about.Suspension.Field} {
		if _, has := about.Schema.Attribute(name); has && !slices.Contains(fields, name) {
			fields = append(fields, name)
		}
	}
	asked := slices.Sorted(maps.Keys(ids))
	if _, err := system.Fetch(ctx, p.System, map[string][]string{system.ByID: asked}, fields, p.Together, func(a account.Account) {
		if ids[a.ID] {
			now.accounts[a.ID] = a
		}
	}); err != nil {
		return nil, err
	}
	for _, id := range asked {
		if _, there := now.accounts[id]; there {
			continue
		}
		switch a, err := p.System.Get(ctx, id, fields); { // a listing may leave out who may not sign in
		case errors.Is(err, system.ErrGone):
			now.gone[id] = true
		case err != nil:
			return nil, err
		default:
			now.accounts[id] = a
		}
	}
	return now, p.writtenSince(ctx, ids, now.written)
}

// leavesShut reports whether the batch itself left an account gone or suspended: its mail says so.
func (p *run) leavesShut(e *batch.Entry) bool {
	mark := p.Batch.Mark
	return e.Did == account.Removed || mark.Field != "" && e.Left()[mark.Field].Text() == mark.Off
}

// writtenSince notes the mails to these accounts that later batches sent, or may have sent.
func (p *run) writtenSince(ctx context.Context, ids map[string]bool, written map[string]int) error {
	batches, err := p.Ledger.Batches(ctx)
	if err != nil {
		return err
	}
	for _, later := range batches {
		if later.ID <= p.Batch.ID || later.System != p.Batch.System {
			continue
		}
		for e, err := range p.Ledger.Entries(ctx, later.ID, store.Filter{Does: membership.Notify}) {
			if err != nil {
				return err
			}
			for _, s := range e.Steps {
				if s.Do == membership.Notify && ids[e.Account] && slices.Contains([]membership.Result{membership.Done, membership.Unclear, membership.Sending}, s.Result) {
					written[mailKey(&e, &s)] = later.ID
				}
			}
		}
	}
	return nil
}

func mailKey(e *batch.Entry, s *membership.Step) string {
	return e.Account + "\x00" + s.Name + "\x00" + strings.ToLower(s.To)
}

// against is why a mail would say what is not so any more; empty: nothing speaks against it.
func (m *meanwhile) against(e *batch.Entry, s *membership.Step) string {
	a, there := m.accounts[e.Account]
	was, is := e.Left()["email"].Text(), a.Field("email").Text()
	shown, has := m.schema.Attribute("email")
	moved := there && has && !shown.Unseen && strings.EqualFold(was, s.To) && !strings.EqualFold(is, was)
	later := m.written[mailKey(e, s)]
	switch {
	case m.gone[e.Account]:
		return "the account is not there any more"
	case there && m.schema.IsSuspended(&a):
		return "the account is suspended now"
	case moved && is == "":
		return "the account has no address any more"
	case moved:
		return fmt.Sprintf("the account's address is %s now", is)
	case later > 0:
		return fmt.Sprintf("batch %d has sent this mail to this address since, or may have", later)
	}
	return ""
}
