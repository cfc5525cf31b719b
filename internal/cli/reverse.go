package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) reverseCommand() *cobra.Command {
	var remove, elevated bool
	cmd := &cobra.Command{
		Use:     "reverse BATCH",
		GroupID: "carry",
		Short:   "Make a batch that undoes another",
		Long: `Drafts the batch that undoes what another did, step by step. Accounts it created are
suspended, or removed with --remove. Fields get back what they held, unless somebody
changed them since, which is told. Memberships it gave are taken away and those it
took are given back, and only those. What was removed cannot be brought back.

Nothing is changed yet: look at the new batch, then carry it out with “post”.`,
		Example: `  evenledger reverse 17
  evenledger reverse 17 --remove     accounts that batch 17 created go for good`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := batchNumber(args[0])
			if err != nil {
				return err
			}
			a.longWork()
			return a.OnBatch(cmd.Context(), id, func(w *workspace.Workspace, l store.Store, b *batch.Batch) error {
				return a.reverse(cmd.Context(), w, l, b, remove, elevated)
			})
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "remove the accounts that the batch created, with all that is in them")
	cmd.Flags().BoolVar(&elevated, "allow-elevated", false, "allow that rights over others are given back")
	return cmd
}

func (a *front) reverse(ctx context.Context, w *workspace.Workspace, l store.Store, of *batch.Batch, remove, elevated bool) error {
	target, err := app.SystemOf(w, of)
	if err != nil {
		return err
	}
	if err := of.MayReverse(target.URL()); err != nil {
		return err
	}
	client, err := a.Connect(target)
	if err != nil {
		return err
	}
	bar := a.progress()
	r := &drafting.Reversal{
		Ledger: l, System: client, URL: target.URL(), Of: of, Remove: remove, Elevated: target.Elevated, Allow: elevated, Protect: target.Protect, Together: target.Together, Progress: bar.stageDone,
		Batch: batch.Batch{Made: a.Clock.Now(), By: who(), Sheet: fmt.Sprintf("batch %d undone", of.ID), Separator: of.Separator, Headings: of.Headings, Above: of.Above, HeadingRow: of.HeadingRow, System: of.System, URL: of.URL},
	}
	var b *batch.Batch
	err = app.Alone(l, "draft", func() (err error) { b, err = r.Make(ctx); return err })
	bar.end()
	if err != nil {
		return err
	}
	if a.json {
		return a.writeBatch(ctx, l, b)
	}
	page := a.page()
	_, waiting, err := a.summary(ctx, page, l, b, nil, nil)
	if err != nil {
		return err
	}
	if total(waiting) == 0 {
		page.Makes(b)
	}
	page.Line("")
	page.Text(page.Dim, b.Policies+" Nothing has been changed.")
	if of.State != batch.Posted {
		page.Text(func(text string) report.Styled { return page.Level(account.Warning, text) }, fmt.Sprintf("Batch %d was not carried out to its end: what still waits in it is not touched.", of.ID))
	}
	if total(waiting) > 0 || len(b.Unmakes) > 0 {
		page.Next(fmt.Sprintf("evenledger post %d", b.ID), fmt.Sprintf("evenledger post %d --trial 1    # one row first", b.ID))
	} else {
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
	}
	return page.Err()
}
