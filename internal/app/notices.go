package app

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/expr"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
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
