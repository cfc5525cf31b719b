package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// one is the check that a command got its one argument.
func one(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) == 0:
			return wrong(fmt.Sprintf("%s needs %s", cmd.CommandPath(), what), fmt.Sprintf("See “%s --help”.", cmd.CommandPath()))
		case len(args) > 1:
			return wrong(fmt.Sprintf("%s takes one argument, %s; “%s” is too many", cmd.CommandPath(), what, args[1]), "If a name has spaces in it, put it in quotes.")
		}
		return nil
	}
}

// oneOrBrief is for a sheet that a brief may name instead.
func oneOrBrief(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if brief := cmd.Flags().Lookup("brief"); len(args) == 0 && brief != nil && brief.Changed {
			return nil
		}
		return one(what)(cmd, args)
	}
}

// first is the argument, if one is given.
func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// lastBatch is how the newest batch may be named instead of by its number.
const lastBatch = "last"

// areBatches reports whether a text can only mean batches by their numbers.
func areBatches(text string) bool {
	return text == lastBatch || strings.Trim(text, "0123456789,-") == "" && text != ""
}

func (a *front) showCommand() *cobra.Command {
	var outcomes []string
	var rows []int
	cmd := &cobra.Command{
		Use:     "show BATCH",
		GroupID: "look",
		Short:   "Tell what became of each row of a batch",
		Long: `Without flags: the account of the batch, its findings, its first and last entries.
With --outcome or --row: those entries in full, with before and after of each field
and every request that was sent.`,
		Example: `  evenledger show 17
  evenledger show 17 --outcome failed,refused
  evenledger show 17 --outcome 'to suspend'    of a draft: what will happen
  evenledger show 17 --row 4
  evenledger show quays                        the newest batches of a set, side by side`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			filter := store.Filter{Rows: rows}
			for _, word := range outcomes {
				if err := app.AddOutcome(&filter, word); err != nil {
					return err
				}
			}
			return a.onBatches(cmd.Context(), args[0], true, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				if len(batches) > 1 {
					return a.showSeveral(cmd.Context(), w, l, batches, filter)
				}
				return a.show(cmd.Context(), w, l, batches[0], filter)
			})
		},
	}
	cmd.Flags().StringSliceVar(&outcomes, "outcome", nil, "only entries of these `OUTCOMES`, such as failed,refused, or “to suspend”")
	completeFlag(cmd, "outcome", listOf(outcomeNames()...))
	cmd.Flags().IntSliceVar(&rows, "row", nil, "only these `ROWS` of the sheet")
	return cmd
}

// showSeveral shows batches together; entries in full one batch after the other.
func (a *front) showSeveral(ctx context.Context, w *workspace.Workspace, l store.Store, batches []*batch.Batch, filter store.Filter) error {
	if whole := len(filter.Outcomes)+len(filter.Intents)+len(filter.Rows) == 0; whole || a.json {
		t, err := answer.NewSet(ctx, l, w, batches, nil)
		if err != nil {
			return err
		}
		t.Filter = filter
		return a.tell(ctx, t)
	}
	for _, b := range batches {
		if err := a.show(ctx, w, l, b, filter); err != nil {
			return err
		}
	}
	return nil
}

func (a *front) show(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, filter store.Filter) error {
	of, err := answer.NewBatch(ctx, l, b)
	if err != nil {
		return err
	}
	signed, err := app.Signed(ctx, w, l, b)
	if err != nil {
		return err
	}
	return a.tell(ctx, &answer.Shown{Batch: of, Workspace: w, Filter: filter, Signed: signed})
}
