package answer

import (
	"context"
	"fmt"

	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

// Mails are those of a batch, and what became of each.
type Mails struct {
	Ledger store.Store
	Batch  *batch.Batch
	Mails  []app.Mail
}

// Document implements Answer.
func (m Mails) Document(context.Context) any {
	all := m.Mails
	if all == nil {
		all = []app.Mail{}
	}
	return map[string]any{"batch": m.Batch.ID, "mails": all}
}

// Draw implements Answer.
func (m Mails) Draw(ctx context.Context, page *report.Page) error {
	page.Title(m.Batch)
	if len(m.Mails) == 0 {
		page.Line("")
		page.Line("No mail goes with it.")
		page.Next(fmt.Sprintf("evenledger show %d", m.Batch.ID))
		return nil
	}
	if err := page.Outgoing(ctx, m.Ledger, m.Batch); err != nil {
		return err
	}
	page.Line("")
	held, cut := 0, 0
	for _, one := range m.Mails {
		page.Line("  row %4d  %s %s %s %s", one.Row, report.Pad(one.State, 10), report.Pad(report.Clip(one.Notice, 14), 14), report.Pad(report.Clip(one.To, 40), 40), page.Dim(report.Clip(one.Subject, 50)))
		if one.Why != "" {
			page.Line("            %s", page.Dim(one.Why))
		}
		switch one.Result {
		case membership.Held, membership.Queued:
			if one.Result == membership.Queued || one.Why == "" { // those left out would be so again
				held++
			}
		case membership.Sending:
			cut++
		}
	}
	switch {
	case cut > 0:
		page.Next(fmt.Sprintf("evenledger notices %d --send    # goes on, and tells of which it is unclear whether they were sent", m.Batch.ID))
	case held > 0:
		page.Next(fmt.Sprintf("evenledger notices %d --send", m.Batch.ID))
	default:
		page.Next(fmt.Sprintf("evenledger show %d", m.Batch.ID))
	}
	return nil
}

// A ShownMail is a mail that is looked at before it goes to anybody.
type ShownMail struct {
	mail.Mail
	Why    string       // it would not go; empty: it would
	Server *mail.Server // that would send it; nil: nothing says how
	Sent   bool         // to an address of the person's own
}

func (m ShownMail) from() string {
	if m.Server == nil {
		return "(evenledger.yaml does not say how mails are sent)"
	}
	return m.Server.From.Name + " <" + m.Server.From.Address + ">"
}

// Document implements Answer.
func (m ShownMail) Document(context.Context) any {
	return map[string]any{"from": m.from(), "to": m.To, "why": m.Why, "subject": m.Subject, "text": m.Text, "html": m.HTML}
}

// Draw implements Answer.
func (m ShownMail) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s  %s", page.Dim("From   "), m.from())
	if m.Why == "" {
		page.Line("%s  %s", page.Dim("To     "), m.To)
	} else {
		page.Line("%s  %s", page.Dim("To     "), page.Dim("not known yet: "+m.Why))
	}
	page.Line("%s  %s", page.Dim("Subject"), page.Bold(m.Subject))
	page.Line("")
	page.Lines(m.Text)
	if m.HTML != "" {
		page.Line("%s", page.Dim("and the same as a page, for mail programs that show one; -o FILE writes all of it"))
	}
	if !m.Sent {
		page.Next("the same with --send-to and an address of yours")
	}
	return nil
}
