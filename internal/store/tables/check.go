package tables

import (
	"context"
	"database/sql"
	"fmt"

	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// CheckBatches reads every batch, and sees whether each of its rows has come to exactly one
// outcome.
func (l *Ledger) CheckBatches(ctx context.Context) (s store.Soundness, err error) {
	batches, err := l.Batches(ctx)
	if err != nil {
		return s, err
	}
	s.Batches = len(batches)
	if s.Problems, err = l.missing(ctx); err != nil {
		return s, err
	}
	for _, b := range batches {
		n, last := 0, 0
		for e, err := range l.Entries(ctx, b.ID, store.Filter{}) {
			if err != nil {
				return s, fmt.Errorf("batch %d, beyond row %d: %w", b.ID, last, err)
			}
			last = e.Row
			n++
		}
		s.Entries += n
		altered, err := l.History(b.ID).Problems(ctx)
		if err != nil {
			return s, err
		}
		s.Problems = append(s.Problems, altered...)
		var noted string
		var counts []count
		if err := l.Read(ctx, func(tx Tx) error {
			if err := one(ctx, tx, []any{&noted}, "SELECT counts FROM batches WHERE id = ?", b.ID); err != nil {
				return err
			}
			counts, err = counted(ctx, tx, b.ID)
			return err
		}); err != nil {
			return s, err
		}
		all, _ := summed(counts)
		if want := b.Rows + b.Unlisted; n != want || all.Total() != want {
			s.Problems = append(s.Problems, fmt.Sprintf("batch %d has %d rows in, and %d entries with %d outcomes", b.ID, want, n, all.Total()))
		} else if noted != "" && noted != jsonText(counts) {
			s.Problems = append(s.Problems, fmt.Sprintf("batch %d: it says that its rows came to other than they did", b.ID))
		}
	}
	return s, nil
}

// missing tells batches that were taken out or hidden: their numbers have no gaps, and what belongs to
// one is not there without it.
func (l *Ledger) missing(ctx context.Context) (problems []string, err error) {
	problems = []string{}
	before := 0
	if err := each(ctx, l, func(rows *sql.Rows) error {
		var id int
		var state batch.State
		var seal string
		if err := rows.Scan(&id, &state, &seal); err != nil {
			return err
		}
		if before++; id != before {
			problems = append(problems, fmt.Sprintf("%s taken out: the numbers of batches have no gaps", between(before, id-1)))
			before = id
		}
		if state == batch.Drafting && seal != "" {
			problems = append(problems, fmt.Sprintf("batch %d was hidden: it says that it is still being made, and has a seal", id))
		}
		return nil
	}, "SELECT id, state, seal FROM batches WHERE id > 0 ORDER BY id"); err != nil {
		return nil, err
	}
	err = each(ctx, l, func(rows *sql.Rows) error {
		var id int
		err := rows.Scan(&id)
		problems = append(problems, fmt.Sprintf("batch %d was taken out, and something of it is left", id))
		return err
	}, "SELECT DISTINCT batch FROM (SELECT batch FROM history UNION SELECT batch FROM entries UNION SELECT batch FROM results) parts WHERE batch > ? ORDER BY batch", before)
	return problems, err
}

func between(low, high int) string {
	if low == high {
		return fmt.Sprintf("batch %d was", low)
	}
	return fmt.Sprintf("batches %d to %d were", low, high)
}
