package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) countersignCommand() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:     "countersign BATCH",
		GroupID: "carry",
		Short:   "Say as the second person that a draft is right",
		Long: `Where the brief or the system says “countersign: over 50” or “always”, a batch is posted only
when somebody else than who drafted it has signed it. This shows all that would be done, word
for word what goes out, and what is otherwise than in an earlier draft of the same list that
was signed; asks; and signs it with your identity: this draft, of this batch, in this ledger,
and no other. A signature does not hold for a draft that was altered.`,
		Example:           "  evenledger countersign 17\n  evenledger countersign 12-14    the batches of a set",
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				return a.countersign(cmd.Context(), w, l, batches, yes)
			})
		},
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return cmd
}

func (a *front) countersign(ctx context.Context, w *workspace.Workspace, l store.Store, batches []*batch.Batch, yes bool) error {
	by := make([]app.Signer, len(batches))
	for i, b := range batches { // all or none
		var err error
		if by[i], err = app.MayCountersign(w, b); err != nil {
			return err
		}
	}
	ask := answer.Countersign{}
	for _, b := range batches {
		one, err := answer.NewToSign(ctx, w, l, b)
		if err != nil {
			return err
		}
		ask.Batches = append(ask.Batches, one)
	}
	page := a.page()
	for _, one := range ask.Batches {
		if err := one.Draw(ctx, page); err != nil {
			return err
		}
		a.judge(one.Fine())
	}
	called := ask.Called()
	if !yes {
		if !isTerminal(a.In) {
			return guard(fmt.Sprintf("batch %s would be countersigned, and nobody is there to be asked", called), "Give --yes if that is right.")
		}
		if !a.ask(fmt.Sprintf("Countersign batch %s, drafted by %s? [y/N] ", called, batches[0].By)) {
			return guard("not countersigned", "")
		}
	}
	for i, one := range ask.Batches {
		s, err := a.Countersign(ctx, l, one.Of, by[i])
		if err != nil {
			return err
		}
		one.Signed = s
	}
	return errors.Join(page.Err(), a.tell(ctx, ask))
}
