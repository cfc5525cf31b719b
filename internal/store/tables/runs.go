package tables

import (
	"context"
	"encoding/json"
	"errors"
	"math"

	"evenledger/internal/store"
)

// runs are the store.Runs of a ledger.
type runs struct{ *Ledger }

// Runs implements store.Store.
func (l *Ledger) Runs() store.Runs { return &runs{l} }

// Save implements store.Runs.
func (l *runs) Save(ctx context.Context, r *store.Run) error {
	return l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx)); err != nil {
			return err
		}
		if r.ID == 0 {
			if err := one(ctx, tx, []any{&r.ID}, "INSERT INTO runs (about) VALUES ('') RETURNING id"); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "UPDATE runs SET about = ? WHERE id = ?", jsonText(r), r.ID)
		return err
	})
}

// List implements store.Runs.
func (l *runs) List(ctx context.Context, limit int) ([]store.Run, error) {
	if limit == 0 {
		limit = math.MaxInt32
	}
	rows, err := l.Query(ctx, "SELECT about FROM runs ORDER BY id DESC LIMIT ?", limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []store.Run
	for rows.Next() {
		var text string
		var r store.Run
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &r); err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, rows.Err()
}
