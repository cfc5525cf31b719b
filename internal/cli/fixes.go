package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/ledger"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func (a *app) fixesCommand() *cobra.Command {
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "fixes BATCH -o SHEET",
		GroupID: "look",
		Short:   "Write the refused and failed rows, with the reasons, to correct and hand back in",
		Long: `Writes a sheet with the rows that were refused or failed, exactly as they came in,
and at the right of each the reasons. Correct the cells and draft the sheet again
with the same brief: the two columns that were added are passed over.`,
		Example: `  evenledger fixes 17 -o again.xlsx           cells at fault coloured, with the reason as a note
  evenledger fixes 17 -o again.csv
  evenledger draft again.csv -b starters`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := batchNumber(args[0])
			if err != nil {
				return err
			}
			if out == "" {
				return wrong("say which file to write", fmt.Sprintf("For example: evenledger fixes %s -o again.csv", args[0]))
			}
			if err := mayWrite(out, overwrite, "and may hold corrections"); err != nil {
				return err
			}
			return a.lookAtBatch(cmd.Context(), id, func(l *ledger.Ledger, b *batch.Batch) error {
				return a.fixes(cmd.Context(), l, b, out)
			})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

func (a *app) fixes(ctx context.Context, l *ledger.Ledger, b *batch.Batch, out string) error {
	id := b.ID
	bad := ledger.Filter{Outcomes: []account.Outcome{account.Refused, account.Failed}, Cells: true}
	counts, _, err := l.Counts(ctx, id)
	if err != nil {
		return err
	}
	rows := 0
	if counts[account.Refused]+counts[account.Failed] > 0 {
		if rows, err = writeWhole(out, func(file *os.File) (int, error) {
			return report.WriteFixes(sheetWriter(file, out), b, l.Entries(ctx, id, bad))
		}); err != nil {
			return err
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"batch": id, "file": out, "rows": rows})
	}
	page := a.page()
	if rows == 0 {
		page.Line("No row of batch %d was refused or failed, so no sheet was written.", id)
		return page.Err()
	}
	page.Line("%s: %d %s to correct, with the reasons at the right.", out, rows, plural(rows, "row", "rows"))
	draft := "evenledger draft " + out
	if b.Brief != "" {
		draft += " -b " + b.Brief
	}
	page.Next(draft)
	return page.Err()
}

// mayWrite sees that a sheet can be written to a path without loss.
func mayWrite(path string, overwrite bool, holds string) error {
	if exists(path) && !overwrite {
		return wrong(fmt.Sprintf("%s exists already, %s", path, holds), "Name another file, or give --overwrite.")
	}
	if !sheet.CanWrite(path) {
		return wrong(fmt.Sprintf("%s is of no format that can be written", path), "Let its name end in "+sheet.Formats+".")
	}
	return nil
}

// sheetWriter begins a sheet in the format that path ends in. Working files stand
// beside it, never in a folder that others share.
func sheetWriter(to io.Writer, path string) func(sheet.Form) (sheet.Writer, error) {
	return func(form sheet.Form) (sheet.Writer, error) {
		form.Folder = filepath.Dir(path)
		return sheet.NewWriter(to, path, form)
	}
}

func plural(n int, single, many string) string {
	if n == 1 {
		return single
	}
	return many
}

// writeWhole writes a file readable by its owner alone, whole or not at all.
func writeWhole(path string, write func(*os.File) (int, error)) (n int, err error) {
	file, err := os.CreateTemp(filepath.Dir(path), ".evenledger-*")
	if err != nil {
		return 0, err
	}
	n, err = write(file)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return n, errors.Join(err, os.Remove(file.Name()))
	}
	return n, nil
}
