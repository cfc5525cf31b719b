package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

func (a *front) fixesCommand() *cobra.Command {
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
			if err := app.MayWrite(out, overwrite, "and may hold corrections"); err != nil {
				return err
			}
			return a.LookAtBatch(cmd.Context(), id, func(l store.Store, b *batch.Batch) error {
				return a.fixes(cmd.Context(), l, b, out)
			})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

func (a *front) fixes(ctx context.Context, l store.Store, b *batch.Batch, out string) error {
	id := b.ID
	bad := store.Filter{Outcomes: []account.Outcome{account.Refused, account.Failed}, Cells: true}
	counts, _, err := l.Counts(ctx, id)
	if err != nil {
		return err
	}
	rows := 0
	if counts[account.Refused]+counts[account.Failed] > 0 {
		if rows, err = app.WriteWhole(out, func(file *os.File) (int, error) {
			return report.WriteFixes(app.SheetWriter(file, out), b, l.Entries(ctx, id, bad))
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

func plural(n int, single, many string) string {
	if n == 1 {
		return single
	}
	return many
}
