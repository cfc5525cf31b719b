package cli

import (
	"context"
	"errors"
	"os"
	"slices"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/inquiry"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

// answerAbout answers a question about a system.
func (a *front) answerAbout(ctx context.Context, name, asked, out string, overwrite bool) error {
	q, err := inquiry.Named(asked)
	if err != nil {
		return err
	}
	if out != "" {
		if err := app.MayWrite(out, overwrite, "and may have been edited"); err != nil {
			return err
		}
	}
	target, client, err := a.target([]string{name})
	if err != nil {
		return err
	}
	bar := a.progress()
	var table inquiry.Table
	if q.Name == inquiry.OfTrials {
		table, err = a.askTrials(ctx, client, target, bar.stageDone)
	} else {
		table, err = q.Ask(ctx, client, bar.stageDone)
	}
	bar.end()
	if err != nil {
		return err
	}
	if out != "" {
		_, err := app.WriteWhole(out, func(file *os.File) (rows int, err error) {
			w, err := app.SheetWriter(file, out)(sheet.Form{})
			if err != nil {
				return 0, err
			}
			defer func() { err = errors.Join(err, w.Close()) }()
			accounts := table.AboutAccounts() // such a sheet can be handed back in, as an export can
			for _, line := range append([]inquiry.Line{{Cells: table.Headings, Account: sheet.AccountHeading}}, table.Lines...) {
				cells := line.Cells
				if accounts {
					cells = append(slices.Clip(cells), line.Account)
				}
				if err := w.Write(cells); err != nil {
					return 0, err
				}
			}
			return len(table.Lines), nil
		})
		if err != nil {
			return err
		}
	}
	return a.tell(ctx, answer.Asked{System: target.Name, Question: q, Table: table, File: out})
}

// askTrials has the ledger and the system answer together.
func (a *front) askTrials(ctx context.Context, client system.System, target workspace.System, told func(string, int)) (table inquiry.Table, err error) {
	_, l, err := a.OpenLedger(ctx, true)
	if err != nil {
		return table, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	return inquiry.Trials(ctx, client, l, target.Name, target.Together, told)
}
