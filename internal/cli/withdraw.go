package cli

import (
	"context"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) withdrawCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "withdraw BATCH",
		GroupID: "carry",
		Short:   "Put a draft away that will not be posted, and destroy its passwords",
		Long: `Marks a draft as one that will not be posted. What it would have done can still be
looked at; the passwords that it kept for new accounts are destroyed, with their key.
Nothing is changed in the system.`,
		Example:           "  evenledger withdraw 18",
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				if len(batches) == 1 {
					return a.withdraw(cmd.Context(), w, l, batches[0])
				}
				for _, b := range batches {
					if err := app.Withdraw(cmd.Context(), w, l, b); err != nil {
						return err
					}
					a.remark("Batch %d is withdrawn: it can be looked at, and not be posted.", b.ID)
				}
				err := a.showSet(cmd.Context(), l, batches, nil)
				a.exit = exitDone // it was done, whatever became of the rows
				return err
			})
		},
	}
}

func (a *front) withdraw(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	if err := app.Withdraw(ctx, w, l, b); err != nil {
		return err
	}
	of, err := answer.NewBatch(ctx, l, b)
	if err != nil {
		return err
	}
	return a.tell(ctx, &answer.Withdrawn{Batch: of})
}
