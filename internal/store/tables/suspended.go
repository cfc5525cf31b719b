package tables

import (
	"context"
	"database/sql"
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

// Used implements store.Drafts.
func (l *Ledger) Used(ctx context.Context, system, field string, take func(value string)) error {
	return each(ctx, l, func(rows *sql.Rows) error {
		var text string
		if err := rows.Scan(&text); err != nil {
			return err
		}
		changes, err := readChanges(text)
		for _, c := range changes {
			if c.Field == field {
				take(c.Before.Text())
				take(c.After.Text())
			}
		}
		return err
	}, "SELECT e.changes FROM batches b JOIN results r ON r.batch = b.id JOIN entries e ON e.batch = r.batch AND e.row = r.row WHERE b.system = ? AND r.did <> '' AND replace(e.changes, ?, '') <> e.changes", system, jsonText(field))
}
