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
	"evenledger/internal/workspace"
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
  evenledger fixes quays -o again.csv         rows that any system of a set refused
  evenledger draft again.csv -b starters`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return wrong("say which file to write", fmt.Sprintf("For example: evenledger fixes %s -o again.csv", args[0]))
			}
			if err := app.MayWrite(out, overwrite, "and may hold corrections"); err != nil {
				return err
			}
			return a.onBatches(cmd.Context(), args[0], true, func(_ *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				return a.fixes(cmd.Context(), l, batches, out)
			})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

func (a *front) fixes(ctx context.Context, l store.Store, batches []*batch.Batch, out string) error {
	b := batches[0]
	id := b.ID
	s, err := report.ReadSet(ctx, l, batches)
	if err != nil {
		return err
	}
	if len(batches) > 1 && !s.OneSheet() {
		return wrong("these batches are not of one sheet, so that their rows have no sheet in common", "Write a sheet for each.")
	}
	bad := 0
	for _, counts := range s.Counts {
		bad += counts.Bad()
	}
	entries := l.Entries(ctx, id, store.Filter{Outcomes: account.Bad(), Cells: true})
	if len(batches) > 1 {
		entries = s.Fixes(s.Rows(ctx, l, store.Filter{Cells: true}))
	}
	rows := 0
	if bad > 0 {
		if rows, err = app.WriteWhole(out, func(file *os.File) (int, error) {
			return report.WriteFixes(app.SheetWriter(file, out), b, entries)
		}); err != nil {
			return err
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"batch": id, "file": out, "rows": rows})
	}
	page := a.page()
	if rows == 0 {
		page.Line("No row of batch %s was refused or failed, so no sheet was written.", s.Numbers())
	} else {
		page.Line("%s: %d %s to correct, with the reasons at the right.", out, rows, report.Plural(rows, "row", "rows"))
	}
	for _, b := range batches { // what no correction of a row puts right
		left, err := app.Remaining(ctx, l, b)
		if err != nil {
			return err
		}
		if left = (app.Remains{Mails: left.Mails, FollowUps: left.FollowUps}); left.Any() {
			page.Text(page.Plain, fmt.Sprintf("Of batch %d, and in no sheet as no row has to be corrected for it: %s. “evenledger notices %d” lists the mails; “evenledger post %d --again” does the follow-ups once more.", b.ID, left, b.ID, b.ID))
		}
	}
	if rows == 0 {
		return page.Err()
	}
	draft := "evenledger draft " + out
	if b.Brief != "" {
		draft += " -b " + b.Brief
	}
	if b.Set != "" && len(batches) > 1 {
		draft += " --system " + b.Set
	}
	page.Next(draft)
	return page.Err()
}
