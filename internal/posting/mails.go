package posting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/pace"
	"evenledger/internal/reach"
)

const (
	mailsAtOnce = 4 // connections to the mail server
	mailTries   = 3
	mailPause   = 2 * time.Second // after the first try; longer after the others
)

// mails sends the mails of entries whose account is as wanted.
func (p *run) mails(ctx context.Context, _ func(error)) error {
	o := &outward{run: p, does: membership.Notify, code: account.NoticeNotSent, called: "the mail"}
	if err := o.beginSteps(ctx, "mails"); err != nil {
		return err
	}
	rate := pace.New(p.Clock, 0, time.Second, nil)
	if p.Mail != nil {
		rate = pace.New(p.Clock, p.Mail.Rate, time.Second, nil)
	}
	return o.each(ctx, mailsAtOnce, func() (func(context.Context, *carrier, *batch.Entry, *membership.Step) error, func(), error) {
		if p.Mail == nil {
			return nil, nil, noMail()
		}
		sender, err := p.Mail.Open(mail.Work{Mask: p.Mask, Clock: p.Clock})
		if err != nil {
			return nil, nil, err
		}
		return func(ctx context.Context, c *carrier, e *batch.Entry, s *membership.Step) error {
			return c.sendMail(ctx, sender, rate, e, s)
		}, sender.Close, nil
	})
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

// sendMail sends one mail. The error is of the server as a whole.
func (c *carrier) sendMail(ctx context.Context, sender *mail.Sender, rate *pace.Pace, e *batch.Entry, s *membership.Step) error {
	var m mail.Mail
	if err := json.Unmarshal([]byte(s.Sent), &m); err != nil {
		return fmt.Errorf("the mail of row %d cannot be read out of the ledger: %w", e.Row, err)
	}
	if s.Tells {
		password, err := c.opened(e)
		if err != nil {
			s.Result = membership.Failed
			e.FindOf(s, account.Warning, account.NoticeNotSent, fmt.Sprintf("the mail “%s” to %s was not sent: %s", s.Name, s.To, err))
			return nil
		}
		m.Text, m.HTML = strings.ReplaceAll(m.Text, brief.PasswordMark, password), strings.ReplaceAll(m.HTML, brief.PasswordMark, html.EscapeString(password))
	}
	m.ID = fmt.Sprintf("%d.%d.%s.%d@%s", c.Batch.ID, e.Row, s.Name, c.Batch.Made.UnixNano(), domainOf(c.Mail.From.Address))
	tell := func(why string) {
		e.Forget(s, account.NoticeNotSent)
		e.FindOf(s, account.Warning, account.NoticeNotSent, fmt.Sprintf("the mail “%s” to %s %s", s.Name, s.To, why))
	}
	for try := 1; ; try++ {
		if rate.Wait(ctx) != nil {
			return nil
		}
		if err := sender.Connect(ctx); err != nil {
			return err
		}
		if err := c.claim(ctx, e, s); err != nil {
			return err
		}
		err := sender.Send(ctx, m)
		var no *mail.Refused
		switch {
		case err == nil:
			s.Result = membership.Done
			e.Forget(s, account.NoticeNotSent)
			return nil
		case errors.As(err, &no):
			s.Result = membership.Failed
			tell("was refused: " + c.Mask.Told(no.Message))
			return nil
		case errors.Is(err, mail.ErrUnclear):
			s.Result = membership.Unclear
			tell("may have been sent or not: " + c.Mask.Told(err.Error()))
			return nil
		}
		if s.Result = membership.Queued; !errors.Is(err, mail.ErrLater) {
			return err
		}
		if try == mailTries {
			tell("could not be sent yet: " + c.Mask.Told(err.Error()))
			c.counting.Lock()
			c.unsent++
			c.counting.Unlock()
			return nil
		}
		if c.Clock.Wait(ctx, mailPause*time.Duration(try*try)) != nil {
			return nil
		}
	}
}

// opened is the password of an entry's account.
func (p *run) opened(e *batch.Entry) (string, error) {
	if e.Secret == "" {
		return "", errors.New("its password is kept no more")
	}
	password, err := p.Vault.Open(e.Row, e.Secret)
	if err != nil {
		return "", errors.New("its password cannot be opened")
	}
	password, _ = e.Password(password)
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

// notSent is the error of mails that the server did not take yet.
func (p *run) notSent() error {
	if p.unsent == 0 {
		return nil
	}
	return &reach.Unavailable{Message: fmt.Sprintf("%d of the mails could not be sent yet: the mail server does not take them now", p.unsent), Remedy: fmt.Sprintf("“evenledger post %d” sends them later.", p.Batch.ID)}
}
