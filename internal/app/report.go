package app

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/mail"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// mailWidth is how many columns a mail program shows of a text.
const mailWidth = 76

// mostMailed is how many rows the page of a batch may have to be mailed.
const mostMailed = 10_000

// report gives the report of a batch to whom it is for, with why it went no further, if so, and the file of credentials, if it is
// encrypted. It says what was done; empty: nobody is to get one.
func (a *App) report(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, how Posting, why, credentials string) (says string, err error) {
	if how.Envelope.IsClear() {
		credentials = ""
	}
	mailed, err := a.mailReport(ctx, w, l, b, why, credentials)
	if err == nil && how.Pages != "" {
		says, err = pageInto(ctx, l, b, how.Pages)
	}
	return strings.Trim(says+"; "+mailed, "; "), err
}

// mailReport mails the report of a batch to whom the brief says: the summary, with why it went
// no further, the page, and the file of encrypted credentials if there is one. It says
// what was done; empty: nobody wants it. That it could not be mailed is told, and undoes
// nothing.
func (a *App) mailReport(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, why, credentials string) (string, error) {
	if len(b.ReportTo) == 0 {
		return "", nil
	}
	if w.Mail == nil {
		return "the report is mailed to nobody, as evenledger.yaml does not say how mails are sent", nil
	}
	var text, html bytes.Buffer
	page := &report.Page{W: &text, Width: mailWidth}
	if why != "" {
		page.Text(page.Plain, "It went no further: "+why)
		page.Line("")
	}
	if _, err := page.Batch(ctx, l, b, nil, nil); err != nil {
		return "", err
	}
	m := mail.Mail{Subject: fmt.Sprintf("Batch %d: %s → %s, %s", b.ID, b.Sheet, b.System, b.State), Text: text.String()}
	if report.In(b)[0].N <= mostMailed {
		if _, err := report.PageOf(ctx, l, b, &html); err != nil {
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

// pageInto writes the page of a batch into a folder.
func pageInto(ctx context.Context, l store.Store, b *batch.Batch, folder string) (string, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	path := filepath.Join(folder, fmt.Sprintf("batch-%d.html", b.ID))
	_, err := writeWhole(path, func(file *os.File) (int, error) { return report.PageOf(ctx, l, b, file) })
	return path, err
}

// beside opens the workbook that a batch was made of, to write what became of its rows
// into a copy. If that cannot be, plain says why.
func beside(b *batch.Batch, out string, width int) (to *sheet.Beside, plain string, err error) {
	if !b.Workbook || !sheet.TraitsOf(out).Workbook {
		return nil, "", nil
	}
	info := sheet.Info{Format: "XLSX", Tab: b.Tab, Headings: b.Headings, HeadingRow: b.HeadingRow}
	why := "it was not .xlsx, or is not there any more"
	if sum := fingerprint(b.Path, info); b.Sum != "" && sum == b.Sum {
		if to, why, err = sheet.OpenBeside(b.Path, info, width, report.OutcomeHeadings(b)); to != nil || err != nil {
			return to, "", err
		}
	} else if b.Sum != "" && sum != "" {
		why = "it was changed since"
	}
	return nil, why, nil
}

// writeOutcomes writes the sheet with what became of its rows to a file, and returns why a workbook could not be given back
// as it was; empty: it could.
func writeOutcomes(ctx context.Context, l store.Store, b *batch.Batch, file *os.File, out string) (rows int, plain string, err error) {
	counts, waiting, err := l.Counts(ctx, b.ID)
	if err != nil {
		return 0, "", err
	}
	width := 0
	for e, err := range l.Entries(ctx, b.ID, store.Filter{Cells: true}) {
		if err != nil {
			return 0, "", err
		}
		width = max(width, len(e.Cells))
	}
	to, plain, err := beside(b, out, width)
	if err != nil {
		return 0, "", err
	}
	if to == nil {
		begin := sheetWriter(file, out)
		rows, err = report.WriteOutcomes(func(form sheet.Form) (sheet.Writer, error) {
			form.Account = report.Chart(b, counts, waiting)
			return begin(form)
		}, b, l.Entries(ctx, b.ID, store.Filter{Cells: true}))
		return rows, plain, err
	}
	// What the ledger does not keep is not to stand in the report either.
	hide := func(e batch.Entry) (hidden []int) {
		for i, cell := range e.Cells {
			if cell == "" {
				hidden = append(hidden, i)
			}
		}
		return hidden
	}
	rows, err = report.WriteOutcomesBeside(to, b, l.Entries(ctx, b.ID, store.Filter{Cells: true}), hide)
	return rows, "", errors.Join(err, to.Save(file, report.Chart(b, counts, waiting)))
}

// isPage reports whether a file of this name is a page to be read in a browser.
func isPage(path string) bool {
	ending := strings.ToLower(filepath.Ext(path))
	return ending == ".html" || ending == ".htm"
}

// A Report is what became of the rows of batches, of one or of a set, as it was written to a file.
type Report struct {
	Of    report.Set
	File  string
	Rows  int
	Plain string // why the workbook that they came in could not be given back as it was; empty: it could, or is none
}

// WriteReport writes what became of every row of batches to a file.
func WriteReport(ctx context.Context, l store.Store, batches []*batch.Batch, out string) (r Report, err error) {
	r.File = out
	if r.Of, err = report.ReadSet(ctx, l, batches); err != nil {
		return r, err
	}
	b := batches[0]
	if len(batches) > 1 && !r.Of.OneSheet() {
		return r, mistake("these batches are not of one sheet", "Write a report of each.")
	}
	if err := notMadeOf(b, out); err != nil {
		return r, err
	}
	r.Rows, err = writeWhole(out, func(file *os.File) (rows int, err error) {
		switch {
		case len(batches) > 1:
			return writeSet(ctx, l, r.Of, file, out)
		case isPage(out):
			return report.PageOf(ctx, l, b, file)
		}
		rows, r.Plain, err = writeOutcomes(ctx, l, b, file, out)
		return rows, err
	})
	return r, err
}

// notMadeOf sees that a file is not the sheet that a batch was made of: rows of it would be lost.
func notMadeOf(b *batch.Batch, out string) error {
	if b.Path != "" && sheet.SameFile(b.Path, out) {
		return mistake(out+" is the sheet that the batch was made of", "Name another file.")
	}
	return nil
}

// writeSet writes what became of every row of one sheet in every system of a set.
func writeSet(ctx context.Context, l store.Store, s report.Set, file *os.File, out string) (int, error) {
	if !isPage(out) {
		return report.WriteSetOutcomes(sheetWriter(file, out), s, s.Rows(ctx, l, store.Filter{Cells: true}))
	}
	causes, err := s.Causes(ctx, l, nil)
	if err != nil {
		return 0, err
	}
	buffered := bufio.NewWriter(file)
	err = report.WriteSetPage(buffered, s, causes, s.Rows(ctx, l, store.Filter{}))
	return s.Batches[0].Rows, errors.Join(err, buffered.Flush())
}

// Fixes are rows that were refused or failed, written to a sheet to be corrected.
type Fixes struct {
	Of   report.Set
	File string
	Rows int       // in it; 0: there is no such row, and no sheet was written
	Left []Remains // of each batch, what no correction of a row puts right
}

// WriteFixes writes the rows of batches that were refused or failed, of a set those that any system did.
func WriteFixes(ctx context.Context, l store.Store, batches []*batch.Batch, out string) (f Fixes, err error) {
	f.File = out
	if f.Of, err = report.ReadSet(ctx, l, batches); err != nil {
		return f, err
	}
	if len(batches) > 1 && !f.Of.OneSheet() {
		return f, mistake("these batches are not of one sheet, so that their rows have no sheet in common", "Write a sheet for each.")
	}
	if err := notMadeOf(batches[0], out); err != nil {
		return f, err
	}
	bad := 0
	for _, counts := range f.Of.Counts {
		bad += counts.Bad()
	}
	entries := l.Entries(ctx, batches[0].ID, store.Filter{Outcomes: account.Bad(), Cells: true})
	if len(batches) > 1 {
		entries = f.Of.Fixes(f.Of.Rows(ctx, l, store.Filter{Cells: true}))
	}
	if bad > 0 {
		if f.Rows, err = writeWhole(out, func(file *os.File) (int, error) {
			return report.WriteFixes(sheetWriter(file, out), batches[0], entries)
		}); err != nil {
			return f, err
		}
	}
	for _, b := range batches {
		left, err := Remaining(ctx, l, b)
		if err != nil {
			return f, err
		}
		f.Left = append(f.Left, Remains{Mails: left.Mails, FollowUps: left.FollowUps})
	}
	return f, nil
}
