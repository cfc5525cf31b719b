package tables

import (
	"context"
	"database/sql"
	"math"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// A past is a store.Past.
type past struct {
	*Ledger
	system string
}

// Past implements store.Drafts.
func (l *Ledger) Past(system string) store.Past { return &past{l, system} }

// Suspended implements store.Past.
func (l *past) Suspended(ctx context.Context, brief string, before time.Time) ([]store.Suspension, error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	last := map[string]store.Suspension{}
	slices.Reverse(all) // the oldest first
	for _, b := range all {
		if b.System != l.system || b.Posted.IsZero() {
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

// Used implements store.Past.
func (l *past) Used(ctx context.Context, field string, take func(value string)) error {
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
	}, "SELECT e.changes FROM batches b JOIN results r ON r.batch = b.id JOIN entries e ON e.batch = r.batch AND e.row = r.row WHERE b.system = ? AND r.did <> '' AND replace(e.changes, ?, '') <> e.changes", l.system, jsonText(field))
}

// longestPost is how long a post may take; what began before it is not looked at for what
// ended of late.
const longestPost = 24 * time.Hour

// MadeSince implements store.Past.
func (l *past) MadeSince(ctx context.Context, since time.Time, each func(id int, e *batch.Entry, at time.Time)) error {
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	removed := map[string]bool{}
	for _, b := range all { // the newest first
		ended := b.State == batch.Posted || b.State == batch.Reversed
		if b.System != l.system || b.Posted.IsZero() || ended && b.Posted.Before(since.Add(-longestPost)) {
			continue
		}
		if !ended {
			open, err := l.inFlight(ctx, b.ID, 0, math.MaxInt32)
			if err != nil {
				return err
			}
			for i := range open {
				// What is open for so long would show by now.
				if e := &open[i].Entry; !e.Outcome.IsElsewhere() && e.Intent == account.Create && open[i].Sent.After(since.Add(-longestPost)) {
					each(b.ID, e, open[i].Sent)
				}
			}
		}
		if !ended {
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{account.HandedOver}}) {
				if err != nil {
					return err
				}
				each(b.ID, &e, b.Posted)
			}
		}
		if err := l.endedSince(ctx, b, since, func(e *batch.Entry, at time.Time) {
			switch {
			case e.Did == account.Removed:
				removed[e.Account] = true
			case e.Did == account.Created && !removed[e.Account]:
				each(b.ID, e, at)
			}
		}); err != nil {
			return err
		}
	}
	return nil
}

// endedSince hands over the entries of a batch that made or removed an account since a time.
func (l *Ledger) endedSince(ctx context.Context, b batch.Batch, since time.Time, took func(e *batch.Entry, at time.Time)) error {
	if last, err := l.LastEnded(ctx, b.ID); err != nil || last.Before(since) {
		return err
	}
	return each(ctx, l, func(rows *sql.Rows) error {
		var ended string
		e, err := scan(rows, &ended)
		if err != nil {
			return err
		}
		at, err := time.Parse(stamp, ended)
		if err == nil && !at.Before(since) {
			took(&e, at)
		}
		return err
	}, "SELECT "+entryColumns+", '[]', '', r.ended FROM "+entriesNow+" WHERE e.batch = ? AND r.did IN (?, ?)", b.ID, account.Created, account.Removed)
}
