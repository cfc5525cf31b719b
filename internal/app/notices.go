package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	netmail "net/mail"
	"os"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/expr"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/reach"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
)

// A Pick says of which entries mails are meant.
type Pick struct {
	rows  [][2]int     // none: all
	only  *brief.Brief // whose one condition holds for them; nil: any
	scope *expr.Scope
}

// NewPick is that of rows, such as 3-9,12, and of a condition, either of which may be empty.
func NewPick(rows, only, today string) (p Pick, err error) {
	if rows != "" {
		if p.rows, err = sheet.ParseRows(rows); err != nil {
			return p, mistake("--rows: "+err.Error(), "")
		}
	}
	if only == "" {
		return p, nil
	}
	if p.only, err = brief.Condition(account.Fields(), only, today); err != nil {
		return p, err
	}
	p.scope = p.only.NewScope(nil)
	return p, nil
}

// Takes reports whether an entry is meant, by its account as the batch leaves it.
func (p Pick) Takes(e *batch.Entry) (bool, error) {
	if len(p.rows) > 0 && !slices.ContainsFunc(p.rows, func(r [2]int) bool { return r[0] <= e.Row && e.Row <= r[1] }) {
		return false, nil
	}
	if p.only == nil {
		return true, nil
	}
	left := e.Left()
	for _, i := range p.only.Only[0].Uses {
		p.scope.Set(i, left[p.only.Fields[i].Name].Text())
	}
	return p.only.Only[0].True(p.scope)
}

// A Mail is one of a batch.
type Mail struct {
	Row     int    `json:"row"`
	Notice  string `json:"notice"`
	To      string `json:"to"`
	Subject string `json:"subject"`
	State   string `json:"state"`
	Text    string `json:"text,omitempty"`
	Why     string `json:"why,omitempty"` // it was not sent, as far as that is known

	Result membership.Result `json:"-"`
}

// Mails reads the mails of a batch, of these rows or of all.
func Mails(ctx context.Context, l store.Store, b *batch.Batch, pick Pick, whole bool) (all []Mail, err error) {
	for e, err := range l.Entries(ctx, b.ID, store.Filter{Does: membership.Notify, Mails: true}) {
		if err != nil {
			return nil, err
		}
		if takes, err := pick.Takes(&e); err != nil || !takes {
			if err != nil {
				return nil, err
			}
			continue
		}
		for _, s := range e.Steps {
			if s.Do != membership.Notify {
				continue
			}
			var m mail.Mail
			if err := json.Unmarshal([]byte(s.Sent), &m); err != nil {
				return nil, fmt.Errorf("the mail of row %d cannot be read out of the ledger: %w", e.Row, err)
			}
			one := Mail{Row: e.Row, Notice: s.Name, To: s.To, Subject: m.Subject, State: report.MailState(s.Result), Result: s.Result}
			for _, f := range e.FindingsOf(&s, account.NoticeNotSent, account.NoticeLeftOut) {
				one.Why = strings.TrimPrefix(f.Message, fmt.Sprintf("the mail “%s” to %s ", s.Name, s.To))
			}
			if whole {
				one.Text = strings.ReplaceAll(m.Text, brief.PasswordMark, "(the password)")
			}
			all = append(all, one)
		}
	}
	return all, nil
}

// A Sending is which mails of a batch a person has sent.
type Sending struct {
	Rows  []int
	Mails int // that go
	Cut   int // that were on their way when a post was cut short, of which it is told
}

// ToSend are those of some mails that are held, or with again those as well that were refused, or of which nobody can say
// whether they were sent.
func ToSend(mails []Mail, again bool) (s Sending) {
	states := []membership.Result{membership.Held, membership.Queued} // the last were asked for before, and that was cut short
	if again {
		states = append(states, membership.Failed, membership.Unclear, membership.Sending)
	}
	for _, m := range mails {
		switch {
		case slices.Contains(states, m.Result):
			s.Mails++
		case m.Result == membership.Sending:
			s.Cut++
		default:
			continue
		}
		s.Rows = append(s.Rows, m.Row)
	}
	s.Rows = slices.Compact(s.Rows)
	return s
}

// MailToOneself sends a mail to an address of the person's own, marked, and to nobody else.
func (a *App) MailToOneself(ctx context.Context, by *mail.Server, m mail.Mail, to string) error {
	at, err := netmail.ParseAddress(to)
	if err != nil || at.Name != "" {
		return mistake(fmt.Sprintf("“%s” is no address to send a mail to", to), "Write it as me@brindlesound.example.")
	}
	sender, err := by.Open(mail.Work{Mask: a.Mask, Clock: a.Clock})
	if err != nil {
		return err
	}
	defer sender.Close()
	m.To, m.Subject = at.Address, "[trial] "+m.Subject
	if err := sender.Send(ctx, m); err != nil {
		return &reach.Unavailable{Message: a.Mask.Hide(err.Error()), Remedy: "Nobody else was written to."}
	}
	return nil
}

// WriteMail writes a mail to a new file, as mail programs keep mails.
func WriteMail(by *mail.Server, m mail.Mail, path string, now time.Time) error {
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		return mistake(path+" exists already", "Name another file.")
	}
	m.To = cmp.Or(m.To, "somebody@example.invalid")
	text, err := by.Text(m, now)
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(text), 0o600)
}
