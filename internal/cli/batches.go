package cli

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

func (a *front) batchesCommand() *cobra.Command {
	var only batchesOf
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
			if all, err = only.of(all); err != nil {
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
	cmd.Flags().StringVar(&only.system, "system", "", "only batches for this `SYSTEM`")
	cmd.Flags().StringVar(&only.sheet, "sheet", "", "only batches of this `SHEET`; * stands for anything")
	cmd.Flags().StringVar(&only.state, "state", "", "only batches in this `STATE`, such as drafted or posted")
	completeFlag(cmd, "system", a.completeSystems)
	completeFlag(cmd, "state", oneOf(listedStates()...))
	cmd.Flags().StringVar(&only.since, "since", "", "only batches drafted on this `DAY` or later, such as 2027-03-01")
	return cmd
}

// listedStates are the states in which batches are listed.
func listedStates() (names []string) {
	for _, state := range []batch.State{batch.Drafted, batch.Posting, batch.Stopped, batch.Handed, batch.Posted, batch.Reversed, batch.Withdrawing, batch.Withdrawn} {
		names = append(names, string(state))
	}
	return names
}

// batchesOf says which batches are listed.
type batchesOf struct{ system, sheet, state, since string }

// of picks batches.
func (o batchesOf) of(all []batch.Batch) ([]batch.Batch, error) {
	var since time.Time
	if o.since != "" {
		var err error
		if since, err = time.ParseInLocation(time.DateOnly, o.since, time.Local); err != nil {
			return nil, wrong(fmt.Sprintf("“%s” is no day", o.since), "Write it as year-month-day, such as 2027-03-01.")
		}
	}
	if states := listedStates(); o.state != "" && !slices.Contains(states, o.state) {
		return nil, wrong(fmt.Sprintf("no batch is ever “%s”", o.state), fmt.Sprintf("The states are %s.", strings.Join(states, ", ")))
	}
	if _, err := path.Match(o.sheet, ""); err != nil {
		return nil, wrong(fmt.Sprintf("“%s” is no name of sheets", o.sheet), "Write a name, in which * stands for anything.")
	}
	return slices.DeleteFunc(all, func(b batch.Batch) bool {
		is, _ := path.Match(o.sheet, b.Sheet) // it was looked at above
		return o.system != "" && b.System != o.system || o.sheet != "" && !is || o.state != "" && string(b.State) != o.state || b.Made.Before(since)
	}), nil
}
