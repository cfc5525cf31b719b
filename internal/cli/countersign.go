package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
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
	page := a.page()
	var numbers []string
	for _, b := range batches {
		numbers = append(numbers, fmt.Sprint(b.ID))
		if a.json {
			continue
		}
		of, err := answer.NewBatch(ctx, l, b)
		if err != nil {
			return err
		}
		if err := of.Draw(ctx, page); err != nil {
			return err
		}
		a.judge(of.Fine())
		if err := a.whatIsSigned(ctx, page, w, l, b); err != nil {
			return err
		}
		page.Line("")
	}
	called := strings.Join(numbers, ", ")
	if !yes {
		if !isTerminal(a.In) {
			return guard(fmt.Sprintf("batch %s would be countersigned, and nobody is there to be asked", called), "Give --yes if that is right.")
		}
		if !a.ask(fmt.Sprintf("Countersign batch %s, drafted by %s? [y/N] ", called, batches[0].By)) {
			return guard("not countersigned", "")
		}
	}
	var signed []map[string]any
	for i, b := range batches {
		s, err := a.Countersign(ctx, l, b, by[i])
		if err != nil {
			return err
		}
		if a.json {
			all, err := ordersOf(ctx, l, b)
			if err != nil {
				return err
			}
			since, err := app.SignedBefore(ctx, w, l, b)
			if err != nil {
				return err
			}
			signed = append(signed, map[string]any{"batch": b.ID, "person": s.Person, "seal": s.Of, "at": s.At, "orders": all.All, "begin": b.Begin, "end": b.End, "reportTo": b.ReportTo, "limits": b.Limits, "since": since})
		} else {
			page.Line("Batch %d is countersigned by %s. Seal of the draft: %s", b.ID, s.Person, answer.ShortSeal(b))
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"countersigned": signed})
	}
	page.Next("evenledger post " + strings.Join(numbers, ","))
	return page.Err()
}

// ordersOf are all that a draft would have done.
func ordersOf(ctx context.Context, l store.Store, b *batch.Batch) (*report.Orders, error) {
	all := &report.Orders{}
	for e, err := range l.Entries(ctx, b.ID, store.Filter{Mails: true, Secrets: true}) {
		if err != nil {
			return nil, err
		}
		all.Add(&e)
	}
	return all, nil
}

// whatIsSigned shows all that a draft would have done, and what is otherwise than in one that was signed.
func (a *front) whatIsSigned(ctx context.Context, page *report.Page, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	all, err := ordersOf(ctx, l, b)
	if err != nil {
		return err
	}
	page.Orders(b, all)
	since, err := app.SignedBefore(ctx, w, l, b)
	if err != nil || since == nil {
		return err
	}
	page.Line("")
	page.Text(page.Bold, since.String())
	if len(since.First) > 0 {
		page.Text(page.Plain, "Among them: "+strings.Join(since.First, ", "))
	}
	return nil
}
