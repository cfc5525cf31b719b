package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
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
				f, err := app.WriteFixes(cmd.Context(), l, batches, out)
				if err != nil {
					return err
				}
				return a.tell(cmd.Context(), answer.Fixes{Fixes: f})
			})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}
