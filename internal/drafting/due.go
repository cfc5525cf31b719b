package drafting

import (
	"context"
	"fmt"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// decideDue makes entries of accounts that batches of the brief suspended so long ago that they
// are to be removed now. Who is listed again, was touched since or lets in again is left.
func (d *making) decideDue(ctx context.Context, decider *batch.Decider) error {
	days := d.brief.Suspending.RemoveAfter
	if days == 0 || d.Part || d.Compare {
		return nil
	}
	due, err := d.Ledger.Past(d.Batch.System).Suspended(ctx, d.Batch.Brief, d.Batch.Made.AddDate(0, 0, -days))
	if err != nil || len(due) == 0 {
		return err
	}
	ids := make([]string, len(due))
	for i, s := range due {
		ids[i] = s.Account
	}
	now := map[string]account.Account{}
	if _, err := system.Fetch(ctx, d.System, map[string][]string{system.ByID: ids}, append(d.ask(), d.about.Suspension.Field), d.Together, func(a account.Account) { now[a.ID] = a }); err != nil {
		return err
	}
	var entries []batch.Entry
	for _, s := range due {
		a, there := now[s.Account]
		if !there || decider.IsListed(a.ID) {
			continue
		}
		e := batch.Entry{Row: batch.UnlistedRow(d.Batch.Unlisted + len(entries) + 1)}
		d.decideDueOne(decider, &e, &a, s)
		entries = append(entries, e)
	}
	d.Batch.Unlisted += len(entries)
	return d.Ledger.Drafting(d.Batch.ID).Add(ctx, entries)
}

func (d *making) decideDueOne(decider *batch.Decider, e *batch.Entry, a *account.Account, s store.Suspension) {
	since := fmt.Sprintf("batch %d suspended it on %s", s.Batch, s.At.Local().Format(time.DateOnly))
	switch {
	case !d.about.IsSuspended(a):
		decider.LeaveDue(e, a, since+", and it was let back in since")
	case d.about.Can.Versions && s.Version != "" && a.Version != s.Version:
		decider.LeaveDue(e, a, since+", and somebody changed it since: what becomes of it is left to you")
	default:
		decider.RemoveDue(e, a, since)
	}
}
