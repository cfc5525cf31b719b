package cli

import (
	"context"
	"errors"
	"path/filepath"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) settleCommand() *cobra.Command {
	var answer app.Answer
	var o order
	cmd := &cobra.Command{
		Use:     "settle BATCH [EXPORT]",
		GroupID: "carry",
		Short:   "Find out what became of what was handed over",
		Long: `Reads what became of each row that was handed over in a file: out of the application's
newest export, and out of its own list of what it did not take, if it gives one. A row
counts as created, updated and so on only when the export shows it; one that the list
names has failed, with the application's reason; of any other it stays open.

Without EXPORT it is the one that evenledger.yaml names as “accounts”. What a service took in,
to carry it out later, the service itself is asked about. Mails and follow-ups go out now,
and never before.`,
		Example: `  evenledger settle 17                                      by the export that is kept
  evenledger settle 12-14                                   the batches of a set, each by its own
  evenledger settle 17 deskbook-new.csv                     by this one
  evenledger settle 17 --results failed.csv                 what the application did not take
  evenledger settle 17 --results failed.csv --file people-17-2.csv`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return nil
			}
			return one("a batch's number, and perhaps an export")(cmd, args)
		},
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				path, err := filepath.Abs(args[1])
				if err != nil {
					return err
				}
				answer.Export = path
			}
			if answer.File != "" && answer.Results == "" {
				return wrong("--file says which file the list of --results is of, and there is none", "")
			}
			a.longWork()
			return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				if len(batches) > 1 && answer != (app.Answer{}) {
					return wrong("an export or a list of failures is of one batch", "Settle one at a time with it, or all by the exports that evenledger.yaml names.")
				}
				return a.settle(cmd.Context(), w, l, batches, answer, o)
			})
		},
	}
	cmd.Flags().StringVar(&answer.Results, "results", "", "the application's list of what it did not take: a `SHEET`")
	cmd.Flags().StringVar(&answer.File, "file", "", "the list is of this `FILE` of the batch")
	o.credentials.add(cmd)
	cmd.Flags().BoolVar(&o.hold, "hold-notices", false, "keep the mails until “notices BATCH --send”")
	ofDeeds.tell(cmd, "results", "file", "hold-notices")
	return cmd
}

func (a *front) settle(ctx context.Context, w *workspace.Workspace, l store.Store, batches []*batch.Batch, answer app.Answer, o order) error {
	how, err := a.posting(w, o, batches...)
	if err != nil {
		return err
	}
	bar := a.progress()
	how.Progress = bar.Of
	after := context.WithoutCancel(ctx)
	var troubles []inSystem
	var settled *app.Posted
	for _, b := range batches {
		if len(batches) > 1 && b.State != batch.Handed && len(b.Files) == 0 {
			continue // nothing of it was handed over
		}
		one, err := a.Settle(ctx, w, l, b, answer, how)
		if bar.End(); err == nil {
			settled = one
			a.followed(one, len(batches) > 1)
			if err = errors.Join(one.Err, one.After); err == nil {
				err = a.remains(one.Left)
			}
		}
		if troubles = append(troubles, inSystem{b.System, err}); b.State != batch.Posted {
			a.exit = exitRows // something is open still
		}
	}
	switch {
	case len(batches) > 1:
		err = a.showSet(after, l, batches, nil)
	case settled != nil && errors.Join(settled.Err, settled.After) == nil:
		err = a.tellPosted(after, w, l, settled, o)
	}
	if err != nil {
		return err
	}
	return a.tellSystems(ctx, troubles)
}

func (a *front) outboxCommand() *cobra.Command {
	open := false
	cmd := &cobra.Command{
		Use:     "outbox BATCH",
		GroupID: "carry",
		Short:   "Show the files of a batch that an application is to be given",
		Long: `Lists the files in which rows of a batch were handed over, with how many of their rows
nobody knows yet what became of. A file with passwords lies sealed in the outbox; --open
opens it beside itself, for you alone, and “settle” shreds both.`,
		Example:           "  evenledger outbox 17\n  evenledger outbox 17 --open",
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onBatches(cmd.Context(), args[0], !open, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				return a.severalBatches(batches, func(b *batch.Batch) error { return a.outbox(cmd.Context(), w, l, b, open) })
			})
		},
	}
	cmd.Flags().BoolVar(&open, "open", false, "open sealed files beside themselves, readable by you alone")
	return cmd
}

func (a *front) outbox(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, open bool) error {
	target, err := app.SystemOf(w, b)
	if err != nil {
		return err
	}
	if open {
		paths, err := app.OpenFiles(w, l, b, target)
		for _, path := range paths {
			a.remark("%s is open, with passwords in it: take it away, or settle the batch, when the application has it.", answer.Within(w.Dir, path))
		}
		if err != nil {
			return err
		}
	}
	waits, err := batch.HandedOver(l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{account.HandedOver}}))
	if err != nil {
		return err
	}
	return a.tell(ctx, answer.Outbox{Dir: w.Dir, Target: target, Batch: b, Waits: waits})
}
