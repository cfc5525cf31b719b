package cli

import (
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

func (a *front) batchesCommand() *cobra.Command {
	var only app.BatchFilter
	cmd := &cobra.Command{
		Use:     "batches",
		GroupID: "look",
		Short:   "List every batch so far, newest first",
		Long: `Lists every batch, newest first, with what became of its rows, and those that were carried
out in one sum.
With flags: only those of a system, of a sheet (in whose name * stands for anything), in a state, drafted since a day.`,
		Example: "  evenledger batches\n  evenledger batches --system crewdesk --state drafted\n  evenledger batches --sheet 'start*' --since 2027-03-01\n  evenledger batches --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			ctx := cmd.Context()
			_, l, err := a.OpenLedger(ctx, true)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			all, err := l.Batches(ctx)
			if err != nil {
				return err
			}
			every := len(all)
			fixed, err := app.Corrected(ctx, l, all)
			if err != nil {
				return err
			}
			if all, err = only.Of(all); err != nil {
				return err
			}
			heads := make([]report.Head, len(all))
			for i := range all {
				counts, _, err := l.Counts(ctx, all[i].ID)
				if err != nil {
					return err
				}
				heads[i] = report.NewHead(&all[i], counts)
				heads[i].Corrected = len(fixed[all[i].ID])
			}
			working, err := l.Working(ctx)
			if err != nil {
				return err
			}
			working = slices.DeleteFunc(working, func(at store.At) bool { return at.Batch < 0 })
			return a.tell(ctx, answer.Batches{Batches: all, Heads: heads, Of: every, Working: working, Now: a.Clock.Now()})
		},
	}
	cmd.Flags().StringVar(&only.System, "system", "", "only batches for this `SYSTEM`")
	cmd.Flags().StringVar(&only.Sheet, "sheet", "", "only batches of this `SHEET`; * stands for anything")
	cmd.Flags().StringVar(&only.State, "state", "", "only batches in this `STATE`, such as drafted or posted")
	completeFlag(cmd, "system", a.completeSystems)
	completeFlag(cmd, "state", oneOf(app.ListedStates()...))
	cmd.Flags().StringVar(&only.Since, "since", "", "only batches drafted on this `DAY` or later, such as 2027-03-01")
	return cmd
}
