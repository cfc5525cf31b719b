package app

import (
	"context"
	"errors"
	"os"
	"slices"

	"evenledger/internal/inquiry"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

// Ask asks a system a question, and the ledger with it where that knows more. The answer is written to a sheet, if one is named.
func (a *App) Ask(ctx context.Context, target workspace.System, client system.System, q inquiry.Question, out string, told func(stage string, n int)) (table inquiry.Table, err error) {
	if q.Name == inquiry.OfTrials {
		table, err = a.askTrials(ctx, target, client, told)
	} else {
		table, err = q.Ask(ctx, client, told)
	}
	if err == nil && out != "" {
		_, err = writeWhole(out, func(file *os.File) (int, error) { return len(table.Lines), writeTable(file, out, table) })
	}
	return table, err
}

// askTrials has the ledger and the system answer together.
func (a *App) askTrials(ctx context.Context, target workspace.System, client system.System, told func(string, int)) (table inquiry.Table, err error) {
	_, l, err := a.OpenLedger(ctx, true)
	if err != nil {
		return table, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	return inquiry.Trials(ctx, client, l, target.Name, target.Together, told)
}

// writeTable writes an answer as a sheet. One about accounts can be handed back in, as an export can.
func writeTable(file *os.File, out string, table inquiry.Table) (err error) {
	w, err := sheetWriter(file, out)(sheet.Form{})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.Close()) }()
	accounts := table.AboutAccounts()
	for _, line := range append([]inquiry.Line{{Cells: table.Headings, Account: sheet.AccountHeading}}, table.Lines...) {
		cells := line.Cells
		if accounts {
			cells = append(slices.Clip(cells), line.Account)
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	return nil
}
