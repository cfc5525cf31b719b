package tables

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// Key implements store.Store.
func (l *Ledger) Key(ctx context.Context, id int) (sealed string, err error) {
	if err = one(ctx, l, []any{&sealed}, "SELECT sealed FROM keys WHERE batch = ?", id); errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return sealed, err
}

// KeepKey implements store.Store.
func (l *Ledger) KeepKey(ctx context.Context, id int, sealed string) error {
	return l.Write(ctx, func(tx Tx) error {
		_, err := tx.Exec(ctx, "INSERT INTO keys (batch, sealed) VALUES (?, ?) ON CONFLICT (batch) DO NOTHING", id, sealed)
		return err
	})
}

// ForgetKey implements store.Store.
func (l *Ledger) ForgetKey(ctx context.Context, id int) error {
	return l.Write(ctx, func(tx Tx) error {
		_, err := tx.Exec(ctx, "DELETE FROM keys WHERE batch = ?", id)
		return err
	})
}

// Sign implements store.Store.
func (l *Ledger) Sign(ctx context.Context, id int, s store.Signature) error {
	return l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx)); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO signatures (batch, person, key, seal, signature, at) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (batch, person) DO UPDATE SET key = excluded.key, seal = excluded.seal, signature = excluded.signature, at = excluded.at`, id, s.Person, s.Key, s.Seal, s.Signature, s.At.UTC().Format(stamp)); err != nil {
			return err
		}
		_, err := add(ctx, tx, id, ofBatch, "signature", jsonText(s))
		return err
	})
}

// Signatures implements store.Store.
func (l *Ledger) Signatures(ctx context.Context, id int) (all []store.Signature, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		var s store.Signature
		var at string
		err := rows.Scan(&s.Person, &s.Key, &s.Seal, &s.Signature, &at)
		if err == nil {
			s.At, err = time.Parse(stamp, at)
		}
		all = append(all, s)
		return err
	}, "SELECT person, key, seal, signature, at FROM signatures WHERE batch = ? ORDER BY at, person", id)
	return all, err
}

// Proven implements store.Store.
func (l *Ledger) Proven(ctx context.Context, b *batch.Batch) (problems []string, err error) {
	return l.proven(ctx, b)
}
