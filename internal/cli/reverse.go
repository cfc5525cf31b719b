package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

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
	var o undoing
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
			if o.pick, err = newPick(rows, only, a.Today()); err != nil {
				return err
			}
			o.says = strings.TrimPrefix(map[bool]string{true: "rows " + rows}[rows != ""]+map[bool]string{true: ", where " + only}[only != ""], ", ")
			if trial != "" && len(args) == 0 {
				a.longWork()
				return a.reverseTrials(cmd.Context(), trial, o)
			}
			a.longWork()
			return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				if len(batches) > 1 {
					return a.reverseSet(cmd.Context(), w, l, batches, o)
				}
				return a.reverse(cmd.Context(), w, l, batches[0], o)
			})
		},
	}
	cmd.Flags().BoolVar(&o.remove, "remove", false, "remove the accounts that the batch created, with all that is in them")
	cmd.Flags().StringVar(&rows, "rows", "", "undo only these `ROWS`, such as 3-9,12")
	cmd.Flags().StringVar(&only, "only", "", "undo only accounts for which this `EXPRESSION` holds, such as department == \"Deck\"")
	cmd.Flags().StringVar(&trial, "trial-run", "", "undo every batch that was marked as a trial of this `NAME`")
	cmd.Flags().BoolVar(&o.elevated, "allow-elevated", false, "allow that rights over others are given back")
	return cmd
}

// undoing says what of a batch is undone, and how.
type undoing struct {
	remove, elevated bool
	pick             pick
	says             string // in words; empty: all is
}

// reverseTrials undoes every batch of a trial that was posted and is not undone yet, the newest
// first.
func (a *front) reverseTrials(ctx context.Context, name string, o undoing) (err error) {
	w, l, err := a.OpenLedger(ctx, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	var heads []report.Head
	for i := range all {
		of := &all[i]
		if of.Trial != name || !of.Took() {
			continue
		}
		b, err := a.makeReversal(ctx, w, l, of, o)
		if err != nil {
			return err
		}
		counts, _, err := l.Counts(ctx, b.ID)
		if err != nil {
			return err
		}
		if heads = append(heads, report.NewHead(b, counts)); a.json {
			continue
		}
		if err := a.showReversal(ctx, l, of, b); err != nil {
			return err
		}
	}
	if len(heads) == 0 {
		return wrong(fmt.Sprintf("no batch that is still to be undone was marked as a trial of “%s”", name), "“evenledger report SYSTEM trials” lists those that are.")
	}
	if a.json {
		return a.writeJSON(map[string]any{"batches": heads})
	}
	return nil
}

func (a *front) reverse(ctx context.Context, w *workspace.Workspace, l store.Store, of *batch.Batch, o undoing) error {
	b, err := a.makeReversal(ctx, w, l, of, o)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeBatch(ctx, l, b)
	}
	return a.showReversal(ctx, l, of, b)
}

// reverseSet drafts the batches that undo several others, and tells them together.
func (a *front) reverseSet(ctx context.Context, w *workspace.Workspace, l store.Store, batches []*batch.Batch, o undoing) error {
	var made []*batch.Batch
	members := make([]app.Member, len(batches))
	did := slices.ContainsFunc(batches, func(b *batch.Batch) bool { return !b.Posted.IsZero() })
	for i, of := range batches {
		if members[i].System = of.System; did && of.Posted.IsZero() {
			a.remark("Batch %d, for %s, was never posted: there is nothing of it to undo.", of.ID, of.System)
			continue
		}
		b, err := a.makeReversal(ctx, w, l, of, o)
		if members[i].Err = err; err != nil {
			continue
		}
		made = append(made, b)
		if b.Set = of.Set; b.Set != "" {
			b.Beside = made[0].ID
			if err := l.Save(ctx, b); err != nil {
				return err
			}
		}
	}
	if len(made) > 0 {
		if err := a.showSet(ctx, l, made, nil); err != nil {
			return err
		}
	}
	return a.tellSystems(ctx, members)
}

// makeReversal drafts the batch that undoes another.
func (a *front) makeReversal(ctx context.Context, w *workspace.Workspace, l store.Store, of *batch.Batch, o undoing) (b *batch.Batch, err error) {
	target, err := app.SystemOf(w, of)
	if err != nil {
		return nil, err
	}
	if err := of.MayReverse(target.URL()); err != nil {
		return nil, err
	}
	if err := app.MayTrust(ctx, w, l, of); err != nil {
		return nil, err
	}
	client, err := a.Connect(target)
	if err != nil {
		return nil, err
	}
	bar := a.progress()
	by, key := a.Who(w)
	r := &drafting.Reversal{
		Ledger: l, Worker: a.Worker(w), Sign: a.SignDraft(w, l), System: client, URL: target.URL(), Of: of, Remove: o.remove, Elevated: target.Elevated, Allow: o.elevated, Protect: target.Protect, Together: target.Together, Progress: bar.stageDone,
		Batch: batch.Batch{Draft: batch.Draft{SignedFrom: target.SignedFrom, Made: a.Clock.Now(), By: by, ByKey: key, Sheet: fmt.Sprintf("batch %d undone", of.ID), Separator: of.Separator, Headings: of.Headings, Above: of.Above, HeadingRow: of.HeadingRow, System: of.System, URL: of.URL}},
	}
	if r.Says = o.says; o.says != "" {
		r.Takes = o.pick.takes
	}
	w.NoteDraft(0) // until it is made
	if b, err = r.Make(ctx); err == nil {
		a.made(b)
	}
	bar.end()
	if errors.Is(err, drafting.ErrNoRow) {
		err = wrong(fmt.Sprintf("batch %d did nothing with %s: there is nothing to undo", of.ID, o.says), fmt.Sprintf("“evenledger show %d --outcome created,updated,suspended,resumed,removed” lists what it did.", of.ID))
	}
	return b, err
}

// showReversal shows the batch that undoes another.
func (a *front) showReversal(ctx context.Context, l store.Store, of, b *batch.Batch) error {
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
	var stay []string
	for _, m := range of.Makes {
		if m.Section != "" {
			stay = append(stay, m.Title())
		}
	}
	if len(stay) > 0 {
		page.Text(page.Dim, fmt.Sprintf("Sections that batch %d added stay: %s.", of.ID, strings.Join(stay, "; ")))
	}
	if a.toSign(page, b, total(waiting), false) {
		page.Next(signNext(fmt.Sprint(b.ID)))
	} else if total(waiting) > 0 || len(b.Unmakes) > 0 {
		page.Next(fmt.Sprintf("evenledger post %d", b.ID), fmt.Sprintf("evenledger post %d --trial 1    # one row first", b.ID))
	} else {
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
	}
	return page.Err()
}
