package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) reconcileCommand() *cobra.Command {
	var flags sheetFlags
	var within time.Duration
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "reconcile SHEET | BATCH",
		GroupID: "look",
		Short:   "Is the system even with a sheet, or with what a batch did?",
		Long: `With a sheet: compares each row with the system, whatever the brief's policies, and
tells what is in the sheet and not in the system, what differs, and, if the brief has
a “scope”, what is in the system and not in the sheet.

With a batch's number: reads back what the batch did, and tells what is otherwise by
now. Of a host it is seen as well whether home folders are the accounts' own, and
whether it answers with the numbers in its files. Systems that show changes late, as
through a cache of names, are given time with --within.

With -o all that is otherwise is written to a sheet as well, a line for each field and membership.

Nothing is changed. The exit code is 0 if all is even and 1 if not.`,
		Example: `  evenledger reconcile starters.csv -b starters
  evenledger reconcile starters.csv -b starters -o differences.xlsx
  evenledger reconcile starters.csv -b starters -o differences.html
  evenledger reconcile 17
  evenledger reconcile 17 --within 2m
  evenledger reconcile quays       the newest batches of a set`,
		Args: one("a sheet or a batch's number"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			if out != "" && sheet.TraitsOf(out).Named {
				return wrong(out+" would have no headings", "Let its name end in .xlsx, .csv, .tsv or .html.")
			}
			if out != "" {
				if err := app.MayWritePage(out, overwrite, "and may be what somebody works through"); err != nil {
					return err
				}
				if sheet.SameFile(args[0], out) {
					return wrong(out+" is the sheet itself", "Name another file.")
				}
			}
			if (areBatches(args[0]) || a.isSet(args[0])) && !exists(args[0]) {
				return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
					if len(batches) > 1 && out != "" {
						return wrong("-o writes what is otherwise in one system", "Name one batch.")
					}
					return a.severalBatches(batches, func(b *batch.Batch) error { return a.readBack(cmd.Context(), w, l, b, within, out) })
				})
			}
			flags.Compare = true
			return a.untilEven(cmd.Context(), within, func() error { return a.reconcile(cmd.Context(), args[0], flags, out) })
		},
	}
	flags.add(a, cmd)
	cmd.Flags().StringVarP(&out, "output", "o", "", "also write what is otherwise to this `FILE`, .xlsx, .csv, .tsv, or a page, .html")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	ofWriting.tell(cmd, "output", "overwrite")
	cmd.Flags().DurationVar(&within, "within", 0, "look again at what differs for this `TIME`, such as 2m")
	return cmd
}

// againEvery is how long it is waited before what is not even is looked at again.
const againEvery = 3 * time.Second

// untilEven compares, and again while what it finds is not even and there is time. Only the last
// time is told.
func (a *front) untilEven(ctx context.Context, within time.Duration, compare func() error) error {
	until := a.Clock.Now().Add(within)
	for {
		if within == 0 || !a.Clock.Now().Add(againEvery).Before(until) {
			return compare()
		}
		told, exit := a.out, a.exit
		var answer bytes.Buffer
		a.out = &answer
		err := compare()
		a.out = told
		if err != nil || a.exit == exit {
			_, writeErr := told.Write(answer.Bytes())
			return errors.Join(err, writeErr)
		}
		a.exit = exit
		a.remark("Not even yet; it is looked at again until %s.", until.Format(time.TimeOnly))
		if err := a.Clock.Wait(ctx, againEvery); err != nil {
			return err
		}
	}
}

func (a *front) reconcile(ctx context.Context, path string, flags sheetFlags, out string) error {
	flags.Elevated = true // nothing is given: it is only compared
	return a.onSheets(ctx, path, flags, func(members []app.Member, set string, l store.Store) (err error) {
		bar := a.progress()
		err = a.CompareSet(ctx, l, members, set, bar.Stage, func(made []*drafting.Made) error {
			bar.End()
			var batches []*batch.Batch
			for _, m := range made {
				if m != nil {
					batches = append(batches, m.Batch)
				}
			}
			if len(batches) == 0 {
				return nil
			}
			c, err := answer.NewCompared(ctx, l, batches, set)
			if err != nil {
				return err
			}
			c.Next = "evenledger draft " + report.Quoted(path) + flags.flags()
			c.Unseen = slices.ContainsFunc(members, func(m app.Member) bool { return m.Err != nil })
			c.NoScope = slices.ContainsFunc(members, func(m app.Member) bool { return m.Job != nil && m.Brief.Scope == nil })
			if !c.Even() {
				a.exit = max(a.exit, exitRows)
			}
			if c.Written, err = a.writeDifferences(out, c.Comparison(), c.Lines(ctx)); err != nil {
				return err
			}
			return a.tell(ctx, c)
		})
		bar.End()
		return errors.Join(err, a.tellSystems(ctx, ofMembers(members)))
	})
}

// writeDifferences writes the sheet or page of what is otherwise, if one is asked for, and returns what was written.
func (a *front) writeDifferences(out string, c report.Comparison, lines iter.Seq2[[][]string, error]) (answer.Differences, error) {
	if out == "" {
		return answer.Differences{}, nil
	}
	held := fmt.Sprintf("held against each other on %s by %s", a.Clock.Now().Local().Format("2 Jan 2006 at 15:04"), a.By)
	n, err := app.WriteDifferences(out, answer.Filed(c, held), lines)
	return answer.Differences{File: out, Lines: n}, err
}

// readBack tells whether the system is still as a batch left it.
func (a *front) readBack(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, within time.Duration, out string) error {
	bar := a.progress()
	read, err := a.ReadBack(ctx, w, l, b, within, bar.Stage)
	bar.End()
	if err != nil {
		return err
	}
	if !read.Even() {
		a.exit = exitRows
	}
	r := answer.ReadBack{Batch: b, Read: read}
	if r.Written, err = a.writeDifferences(out, r.Comparison(), r.Lines); err != nil {
		return err
	}
	return a.tell(ctx, r)
}
