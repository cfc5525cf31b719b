package app

import (
	"context"
	"errors"
	"fmt"

	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// Undoing says what of batches is undone, and how.
type Undoing struct {
	Remove   bool                             // accounts that were created go for good
	Elevated bool                             // rights over others may be given back
	Says     string                           // in words, which rows of them; empty: all are undone
	Takes    func(*batch.Entry) (bool, error) // with Says: whether a row is undone
	Progress func(stage string, rows int)     // may be nil
}

// A Reversal is the batch that undoes another.
type Reversal struct {
	Of    *batch.Batch
	Batch *batch.Batch // nil: there is none
	Err   error        // why
}

// Reverse drafts the batches that undo others, one for each. Those that undo batches which stand beside each other do so too.
// One that cannot be made leaves the others alone.
func (a *App) Reverse(ctx context.Context, w *workspace.Workspace, l store.Store, u Undoing, batches ...*batch.Batch) (all []Reversal) {
	w.NoteDraft(0)         // until one is made
	first := map[int]int{} // the first of those that stand together → the number of its reversal
	for _, of := range batches {
		r := Reversal{Of: of}
		set, beside := "", 0
		if len(batches) > 1 && of.Set != "" {
			set, beside = of.Set, first[of.Beside]
		}
		if r.Batch, r.Err = a.reverse(ctx, w, l, u, of, set, beside); r.Err == nil && set != "" && beside == 0 {
			first[of.Beside] = r.Batch.ID
		}
		all = append(all, r)
	}
	for _, r := range all {
		if r.Batch != nil {
			w.NoteDraft(r.Batch.ID)
			break
		}
	}
	return all
}

// reverse drafts the batch that undoes another, of a set beside others.
func (a *App) reverse(ctx context.Context, w *workspace.Workspace, l store.Store, u Undoing, of *batch.Batch, set string, beside int) (*batch.Batch, error) {
	target, err := SystemOf(w, of)
	if err != nil {
		return nil, err
	}
	if err := of.MayReverse(target.URL()); err != nil {
		return nil, err
	}
	if err := MayTrust(ctx, w, l, of); err != nil {
		return nil, err
	}
	client, err := a.Connect(target)
	if err != nil {
		return nil, err
	}
	by, key := a.Who(w)
	r := &drafting.Reversal{
		Ledger: l, Worker: a.Worker(w), Sign: a.SignDraft(w, l), System: client, URL: target.URL(), Of: of, Remove: u.Remove, Elevated: target.Elevated, Allow: u.Elevated, Protect: target.Protect, Together: target.Together, Progress: u.Progress,
		Batch: batch.Batch{Draft: batch.Draft{SignedFrom: target.SignedFrom, Made: a.Clock.Now(), By: by, ByKey: key, Set: set, Beside: beside, System: of.System, URL: of.URL, Source: batch.Source{Sheet: fmt.Sprintf("batch %d undone", of.ID), Separator: of.Separator, Headings: of.Headings, Above: of.Above, HeadingRow: of.HeadingRow}}},
	}
	if r.Says = u.Says; u.Says != "" {
		r.Takes = u.Takes
	}
	b, err := r.Make(ctx)
	if errors.Is(err, drafting.ErrNoRow) {
		err = mistake(fmt.Sprintf("batch %d did nothing with %s: there is nothing to undo", of.ID, u.Says), fmt.Sprintf("“evenledger show %d --outcome created,updated,suspended,resumed,removed” lists what it did.", of.ID))
	}
	return b, err
}

// TrialBatches are the batches of a trial that were posted and are not undone yet, the newest first.
func TrialBatches(ctx context.Context, l store.Store, name string) (batches []*batch.Batch, err error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if b := &all[i]; b.Trial == name && b.Took() {
			batches = append(batches, b)
		}
	}
	if len(batches) == 0 {
		return nil, mistake(fmt.Sprintf("no batch that is still to be undone was marked as a trial of “%s”", name), "“evenledger report SYSTEM trials” lists those that are.")
	}
	return batches, nil
}
