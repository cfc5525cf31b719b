package tables

import (
	"context"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/store"
)

// Suspended implements store.Store.
func (l *Ledger) Suspended(ctx context.Context, system, brief string, before time.Time) ([]store.Suspension, error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	last := map[string]store.Suspension{}
	slices.Reverse(all) // the oldest first
	for _, b := range all {
		if b.System != system || b.Posted.IsZero() {
			continue
		}
		rows, err := l.Query(ctx, "SELECT account, version, did, ended FROM results WHERE batch = ? AND account <> '' AND did NOT IN ('', ?)", b.ID, account.Unchanged)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			s := store.Suspension{Batch: b.ID}
			var did account.Outcome
			var ended string
			if err := rows.Scan(&s.Account, &s.Version, &did, &ended); err != nil {
				_ = rows.Close()
				return nil, err
			}
			if s.At, err = time.Parse(stamp, ended); err != nil {
				_ = rows.Close()
				return nil, err
			}
			if delete(last, s.Account); did == account.Suspended && b.Brief == brief {
				last[s.Account] = s
			}
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
	}
	var due []store.Suspension
	for _, s := range last {
		if s.At.Before(before) {
			due = append(due, s)
		}
	}
	slices.SortFunc(due, func(a, b store.Suspension) int { return a.At.Compare(b.At) })
	return due, nil
}
