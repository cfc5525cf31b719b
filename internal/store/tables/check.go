package tables

import (
	"context"
	"fmt"

	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// CheckBatches reads every batch, and sees whether each of its rows has come to exactly one
// outcome.
func (l *Ledger) CheckBatches(ctx context.Context) (s store.Soundness, err error) {
	s.Problems = []string{}
	batches, err := l.Batches(ctx)
	if err != nil {
		return s, err
	}
	s.Batches = len(batches)
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
		altered, err := l.proven(ctx, &b)
		if err != nil {
			return s, err
		}
		if s.Problems = append(s.Problems, altered...); b.Seal == "" && b.State != batch.Unmade {
			s.Unsealed++
		}
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
