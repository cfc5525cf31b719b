package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) reverseCommand() *cobra.Command {
	var u app.Undoing
	var trial, rows, only string
	cmd := &cobra.Command{
		Use:     "reverse BATCH | reverse --trial-run NAME",
		GroupID: "carry",
		Short:   "Make a batch that undoes another",
		Long: `Drafts the batch that undoes what another did, step by step. Accounts it created are
suspended, or removed with --remove. Fields get back what they held, unless somebody
changed them since, which is told. Memberships it gave are taken away and those it
took are given back, and only those: what it found so already it leaves alone. Accounts it
removed are made anew out of what was kept of them, with their memberships, under a new id.

With --rows or --only, only those rows are undone.

With --trial-run, every batch that was marked with that name is undone, a batch for each.

Nothing is changed yet: look at the new batch, then carry it out with “post”.`,
		Example: `  evenledger reverse 17
  evenledger reverse 17 --remove     accounts that batch 17 created go for good
  evenledger reverse 17 --rows 3-9,12
  evenledger reverse 17 --only 'department == "Deck"'
  evenledger reverse --trial-run rehearsal --remove`,
		Args: func(cmd *cobra.Command, args []string) error {
			if trial != "" && len(args) == 0 {
				return nil
			}
			return one("a batch's number")(cmd, args)
		},
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			pick, err := app.NewPick(rows, only, a.Today())
			if err != nil {
				return err
			}
			u.Takes = pick.Takes
			u.Says = strings.TrimPrefix(map[bool]string{true: "rows " + rows}[rows != ""]+map[bool]string{true: ", where " + only}[only != ""], ", ")
			a.longWork()
			if len(args) == 0 {
				return a.reverseTrial(cmd.Context(), trial, u)
			}
			return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				return a.reverse(cmd.Context(), w, l, batches, u)
			})
		},
	}
	cmd.Flags().BoolVar(&u.Remove, "remove", false, "remove the accounts that the batch created, with all that is in them")
	cmd.Flags().StringVar(&rows, "rows", "", "undo only these `ROWS`, such as 3-9,12")
	cmd.Flags().StringVar(&only, "only", "", "undo only accounts for which this `EXPRESSION` holds, such as department == \"Deck\"")
	cmd.Flags().StringVar(&trial, "trial-run", "", "undo every batch that was marked as a trial of this `NAME`")
	cmd.Flags().BoolVar(&u.Elevated, "allow-elevated", false, "allow that rights over others are given back")
	return cmd
}

// reverseTrial undoes every batch of a trial that was posted and is not undone yet, the newest first.
func (a *front) reverseTrial(ctx context.Context, name string, u app.Undoing) (err error) {
	w, l, err := a.OpenLedger(ctx, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	batches, err := app.TrialBatches(ctx, l, name)
	if err != nil {
		return err
	}
	return a.reverse(ctx, w, l, batches, u)
}

// reverse drafts the batches that undo others, and tells them together.
func (a *front) reverse(ctx context.Context, w *workspace.Workspace, l store.Store, batches []*batch.Batch, u app.Undoing) error {
	if slices.ContainsFunc(batches, func(b *batch.Batch) bool { return !b.Posted.IsZero() }) {
		batches = slices.DeleteFunc(batches, func(b *batch.Batch) bool {
			if b.Posted.IsZero() {
				a.remark("Batch %d, for %s, was never posted: there is nothing of it to undo.", b.ID, b.System)
			}
			return b.Posted.IsZero()
		})
	}
	bar := a.progress()
	u.Progress = bar.Stage
	all := a.Reverse(ctx, w, l, u, batches...)
	bar.End()
	var made []*batch.Batch
	var troubles []inSystem
	for _, r := range all {
		if troubles = append(troubles, inSystem{r.Of.System, r.Err}); r.Batch != nil {
			made = append(made, r.Batch)
		}
	}
	var err error
	switch {
	case len(made) == 0:
	case len(all) > 1:
		err = a.showSet(ctx, l, made, nil)
	default:
		var undoes answer.Batch
		if undoes, err = answer.NewBatch(ctx, l, made[0]); err == nil {
			err = a.came(ctx, &answer.Reversal{Batch: undoes, Undoes: all[0].Of})
		}
	}
	if err != nil {
		return err
	}
	return a.tellSystems(ctx, troubles)
}
