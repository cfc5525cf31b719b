package posting

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/pace"
	"evenledger/internal/reach"
	"evenledger/internal/store"
)

const (
	mailsAtOnce = 4   // connections to the mail server
	fewClaimed  = 8   // entries whose mails are noted together as on their way, at first
	manyClaimed = 256 // where the server is fast: what is noted lasts for blockTime, and may be unclear after a kill
	mailTries   = 3

	outwardWindow = 1000            // entries that are read together with what they send
	mailPause     = 2 * time.Second // after the first try; longer after the others
)

// mails sends the mails of entries whose account is as wanted. One is noted as on its way
// before it is sent, and never sent again by itself once that was so.
func (p *run) mails(ctx context.Context, _ func(error)) error {
	if err := p.beginSteps(ctx, "mails", membership.Notify); err != nil {
		return err
	}
	return p.pending(ctx, membership.Notify, func(window []batch.Entry) error {
		total := 0
		for i := range window {
			total += p.readySteps(&window[i], membership.Notify, account.NoticeNotSent, "the mail")
		}
		if total == 0 || p.HoldMails {
			for i := range window {
				p.endMails(&window[i])
			}
			return nil
		}
		if p.Mail == nil {
			return noMail()
		}
		rate := pace.New(p.Clock, p.Mail.Rate, time.Second, nil)
		// The next are noted while these are sent, and no more than those.
		work := make(chan *batch.Entry, 4*mailsAtOnce)
		group, sending := errgroup.WithContext(ctx)
		for range mailsAtOnce {
			group.Go(func() error {
				sender, err := p.Mail.Open(mail.Work{Mask: p.Mask, Clock: p.Clock})
				if err != nil {
					p.giveBack(work)
					return err
				}
				defer sender.Close()
				for e := range work {
					if err := p.sendMails(sending, sender, rate, e); err != nil {
						p.giveBack(work)
						return err
					}
				}
				return nil
			})
		}
		group.Go(func() error {
			defer close(work)
			size := fewClaimed
			for left := window; len(left) > 0 && sending.Err() == nil; {
				entries := left[:min(size, len(left))]
				left = left[len(entries):]
				if err := p.claim(sending, entries, membership.Notify); err != nil {
					return err
				}
				begun := p.Clock.Now()
				for i := range entries {
					work <- &entries[i]
				}
				if took := p.Clock.Now().Sub(begun); took > 0 {
					size = min(max(fewClaimed, int(float64(len(entries))*float64(blockTime)/float64(took))), 2*size, manyClaimed)
				}
			}
			return nil
		})
		return group.Wait()
	})
}

// beginSteps begins to count the steps that do this.
func (p *run) beginSteps(ctx context.Context, stage string, does membership.Verb) error {
	counts, err := p.Ledger.Steps(ctx, p.Batch.ID, does)
	if err != nil {
		return ignoreCancel(ctx, err)
	}
	total := 0
	for _, c := range counts {
		if c.Result == "" || c.Result == membership.Queued {
			total += c.N
		}
	}
	p.begin(stage, total)
	return nil
}

// noMail is why mails cannot be sent.
func noMail() error {
	return &batch.Guard{Message: "the batch has mails, and evenledger.yaml does not say how they are sent", Remedy: "Add “mail” there, or keep them with --hold-notices."}
}

// mayMail returns why mails cannot be sent, as far as one can tell without asking the server.
func (p *Post) mayMail() error {
	if p.Mail == nil {
		return noMail()
	}
	sender, err := p.Mail.Open(mail.Work{Mask: p.Mask, Clock: p.Clock})
	if err != nil {
		return &batch.Guard{Message: fmt.Sprintf("the batch has mails, and they cannot be sent: %s", err), Remedy: fmt.Sprintf("evenledger.yaml, line %d, says how they are sent. Or keep them with --hold-notices.", p.Mail.Line)}
	}
	sender.Close()
	return nil
}

// readySteps settles what is known of an entry's steps of a kind without doing any, and returns
// how many are to be done.
func (p *run) readySteps(e *batch.Entry, does membership.Verb, code account.Code, called string) (open int) {
	failed := slices.ContainsFunc(e.Steps, func(s membership.Step) bool {
		return s.Do != does && (s.Result == membership.Failed || s.Result == membership.Unclear)
	})
	for i := range e.Steps {
		switch s := &e.Steps[i]; {
		case s.Do != does:
		case s.Result == membership.Sending: // by a post that was killed
			s.Result = membership.Unclear
			e.Find(account.Warning, code, "", "", fmt.Sprintf("%s “%s” (%s) was on its way when a post was cut short: nobody can say whether it came to its end", called, s.Name, s.Thing))
		case s.Result != "" && s.Result != membership.Queued:
		case failed: // it would say what is not so
			s.Result = membership.Unsent
		case does == membership.Notify && p.HoldMails:
			s.Result = membership.Held
		default:
			open++
		}
	}
	return open
}

// endMails notes what became of an entry's mails.
func (p *run) endMails(e *batch.Entry) {
	e.Settle()
	p.results <- resultOf(e)
}

// claim notes that steps of a kind of a few entries are on their way.
func (p *run) claim(ctx context.Context, entries []batch.Entry, does membership.Verb) error {
	var claimed []store.Result
	for i := range entries {
		for n := range entries[i].Steps {
			if s := &entries[i].Steps[n]; s.Do == does && (s.Result == "" || s.Result == membership.Queued) {
				s.Result = membership.Sending
			}
		}
		e := entries[i]
		e.Steps = slices.Clone(e.Steps)
		claimed = append(claimed, store.Result{Entry: e})
	}
	return p.settle(ctx, claimed)
}

// giveBack has nothing more sent of what was claimed: it was not begun.
func (p *run) giveBack(work <-chan *batch.Entry) {
	for e := range work {
		for n := range e.Steps {
			if s := &e.Steps[n]; s.Do == membership.Notify && s.Result == membership.Sending {
				s.Result = membership.Queued
			}
		}
		p.endMails(e)
	}
}

// sendMails sends the mails of an entry.
func (p *run) sendMails(ctx context.Context, sender *mail.Sender, rate *pace.Pace, e *batch.Entry) (err error) {
	for n := range e.Steps {
		s := &e.Steps[n]
		if s.Do != membership.Notify || s.Result != membership.Sending {
			continue
		}
		if err != nil || ctx.Err() != nil {
			s.Result = membership.Queued // it was not begun
			continue
		}
		if err = p.sendMail(ctx, sender, rate, e, s); s.Result != membership.Queued {
			p.advance(1)
		}
	}
	p.endMails(e)
	return err
}

// sendMail sends one mail. The error is of the server as a whole.
func (p *run) sendMail(ctx context.Context, sender *mail.Sender, rate *pace.Pace, e *batch.Entry, s *membership.Step) error {
	var m mail.Mail
	if err := json.Unmarshal([]byte(s.Mail), &m); err != nil {
		s.Result = membership.Queued
		return fmt.Errorf("the mail of row %d cannot be read out of the ledger: %w", e.Row, err)
	}
	if s.Role == membership.WithPassword {
		password, err := p.opened(e)
		if err != nil {
			s.Result = membership.Failed
			e.Find(account.Warning, account.NoticeNotSent, "", "", fmt.Sprintf("the mail “%s” to %s was not sent: %s", s.Name, s.Thing, err))
			return nil
		}
		m.Text, m.HTML = strings.ReplaceAll(m.Text, brief.PasswordMark, password), strings.ReplaceAll(m.HTML, brief.PasswordMark, html.EscapeString(password))
	}
	m.ID = fmt.Sprintf("%d.%d.%s.%d@%s", p.Batch.ID, e.Row, s.Name, p.Batch.Made.UnixNano(), domainOf(p.Mail.From.Address))
	tell := func(why string) {
		forget(e, account.NoticeNotSent, s.Name)
		e.Find(account.Warning, account.NoticeNotSent, "", "", fmt.Sprintf("the mail “%s” to %s %s", s.Name, s.Thing, why))
	}
	for try := 1; ; try++ {
		if err := rate.Wait(ctx); err != nil {
			s.Result = membership.Queued
			return nil
		}
		if err := p.at.May(); err != nil {
			s.Result = membership.Queued
			return err
		}
		err := sender.Send(ctx, m)
		var no *mail.Refused
		switch {
		case err == nil:
			s.Result = membership.Done
			forget(e, account.NoticeNotSent, s.Name)
			return nil
		case errors.As(err, &no):
			s.Result = membership.Failed
			tell("was refused: " + p.Mask.Hide(no.Message))
			return nil
		case errors.Is(err, mail.ErrUnclear):
			s.Result = membership.Unclear
			tell("may have been sent or not: " + p.Mask.Hide(err.Error()))
			return nil
		case !errors.Is(err, mail.ErrLater):
			s.Result = membership.Queued
			return err
		case try == mailTries:
			s.Result = membership.Queued
			tell("could not be sent yet: " + p.Mask.Hide(err.Error()))
			p.counting.Lock()
			p.unsent++
			p.counting.Unlock()
			return nil
		}
		if p.Clock.Wait(ctx, mailPause*time.Duration(try*try)) != nil {
			s.Result = membership.Queued
			return nil
		}
	}
}

// forget takes back what was told before of a step of that name.
func forget(e *batch.Entry, code account.Code, name string) {
	e.Findings = slices.DeleteFunc(e.Findings, func(f account.Finding) bool {
		return f.Code == code && strings.Contains(f.Message, "“"+name+"”")
	})
}

// opened is the password of an entry's account.
func (p *run) opened(e *batch.Entry) (string, error) {
	if e.Secret == "" {
		return "", errors.New("its password is kept no more")
	}
	password, err := p.Vault.Open(e.Secret)
	if err != nil {
		return "", errors.New("its password cannot be opened")
	}
	p.Mask.Add(password)
	return password, nil
}

// domainOf is what stands behind the @ of an address.
func domainOf(address string) string {
	for i := len(address) - 1; i >= 0; i-- {
		if address[i] == '@' {
			return address[i+1:]
		}
	}
	return "localhost"
}

// Mails sends mails of a batch that wait for a person's word: those that were held, and with
// again those that were refused or of which nobody can say whether they arrived; of these
// rows, or of all if there are none. It returns how many there were.
func (p *Post) Mails(ctx context.Context, rows []int, again bool) (n int, err error) {
	err = p.alone(ctx, func(ctx context.Context, r *run) error {
		n, err = r.sendHeld(ctx, rows, again)
		return err
	})
	return n, err
}

func (p *run) sendHeld(ctx context.Context, rows []int, again bool) (n int, err error) {
	wanted := []membership.Result{membership.Held}
	if again {
		wanted = append(wanted, membership.Failed, membership.Unclear, membership.Sending)
	}
	var queued []store.Result
	for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Does: membership.Notify, Rows: rows}) {
		if err != nil {
			return 0, err
		}
		chosen := 0
		for i := range e.Steps {
			if s := &e.Steps[i]; s.Do == membership.Notify && slices.Contains(wanted, s.Result) {
				s.Result = membership.Queued
				chosen++
			}
		}
		if chosen == 0 {
			continue
		}
		n += chosen
		e.Outcome = account.Waiting
		queued = append(queued, store.Result{Entry: e})
	}
	if n == 0 {
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

// notSent is the error of mails that the server did not take yet.
func (p *run) notSent() error {
	if p.unsent == 0 {
		return nil
	}
	return &reach.Unavailable{Message: fmt.Sprintf("%d of the mails could not be sent yet: the mail server does not take them now", p.unsent), Remedy: fmt.Sprintf("“evenledger post %d” sends them later.", p.Batch.ID)}
}
