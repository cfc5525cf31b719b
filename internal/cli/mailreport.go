package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/mail"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// mailWidth is how many columns a mail program shows of a text.
const mailWidth = 76

// mostMailed is how many rows the page of a batch may have to be mailed.
const mostMailed = 10_000

// reporter mails reports; credentials that are not encrypted go with none.
func (a *front) reporter(f *credentialFlags) app.Reporter {
	return func(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, why, credentials string) (string, error) {
		if f.clear {
			credentials = ""
		}
		return a.mailReport(ctx, w, l, b, why, credentials)
	}
}

// mailReport mails the report of a batch to whom the brief says: the summary, with why it went
// no further, the page, and the file of encrypted credentials if there is one. It says
// what was done; empty: nobody wants it. That it could not be mailed is told, and undoes
// nothing.
func (a *front) mailReport(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, why, credentials string) (string, error) {
	if len(b.ReportTo) == 0 {
		return "", nil
	}
	if w.Mail == nil {
		return "the report is mailed to nobody, as evenledger.yaml does not say how mails are sent", nil
	}
	var text, html bytes.Buffer
	exit := a.exit
	page := &report.Page{W: &text, Width: mailWidth}
	if why != "" {
		page.Text(page.Plain, "It went no further: "+why)
		page.Line("")
	}
	_, _, err := a.summary(ctx, page, l, b, nil, nil)
	a.exit = exit // that is of the command's own summary
	if err != nil {
		return "", err
	}
	m := mail.Mail{Subject: fmt.Sprintf("Batch %d: %s → %s, %s", b.ID, b.Sheet, b.System, b.State), Text: text.String()}
	if report.In(b)[0].N <= mostMailed {
		if _, err := writePage(ctx, l, b, &html); err != nil {
			return "", err
		}
		m.Attached = append(m.Attached, mail.Attachment{Name: fmt.Sprintf("batch-%d.html", b.ID), Data: html.Bytes()})
	} else {
		m.Text += fmt.Sprintf("\nThe page of so many rows is too large for a mail: evenledger report %d -o batch-%d.html\n", b.ID, b.ID)
	}
	if why != "" {
		m.Subject = strings.TrimSuffix(m.Subject, ", "+string(b.State)) + ", stopped"
	}
	if len(b.Held) > 0 {
		m.Subject = strings.TrimSuffix(m.Subject, ", stopped") + ", held back"
	}
	if credentials != "" {
		if data, err := os.ReadFile(credentials); err == nil {
			m.Attached = append(m.Attached, mail.Attachment{Name: filepath.Base(credentials), Data: data})
		}
	}
	sender, err := w.Mail.Open(mail.Work{Mask: a.Mask, Clock: a.Clock})
	if err != nil {
		return "", err
	}
	defer sender.Close()
	for _, to := range b.ReportTo {
		m.To = to
		if err := sender.Send(ctx, m); err != nil {
			return fmt.Sprintf("the report could not be mailed to %s: %s", to, a.Mask.Hide(err.Error())), nil
		}
	}
	return "the report was mailed to " + strings.Join(b.ReportTo, ", "), nil
}
