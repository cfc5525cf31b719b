package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"

	"evenledger/internal/store"
)

// SaveRun implements store.Store.
func (l *Ledger) SaveRun(ctx context.Context, r *store.Run) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		if r.ID == 0 {
			if err := tx.QueryRowContext(ctx, "INSERT INTO runs (about) VALUES ('') RETURNING id").Scan(&r.ID); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "UPDATE runs SET about = ? WHERE id = ?", jsonText(r), r.ID)
		return err
	})
}

// Runs implements store.Store.
func (l *Ledger) Runs(ctx context.Context, limit int) ([]store.Run, error) {
	if limit == 0 {
		limit = -1
	}
	rows, err := l.db.QueryContext(ctx, "SELECT about FROM runs ORDER BY id DESC LIMIT ?", limit)
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
