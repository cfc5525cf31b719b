package tables

import (
	"context"
	"database/sql"
	"errors"
	"math"

	"evenledger/internal/account"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// passwords are the store.Passwords of a batch.
type passwords struct {
	*Ledger
	id int
}

// Passwords implements store.Posts.
func (l *Ledger) Passwords(id int) store.Passwords { return &passwords{l, id} }

// Count implements store.Passwords.
func (l *passwords) Count(ctx context.Context) (c store.PasswordCounts, err error) {
	err = one(ctx, l, []any{&c.Got, &c.Waiting, &c.Mailed, &c.Given}, `SELECT count(*) FILTER (WHERE NOT tells AND generated AND (did = ?1 OR renewed = ?2)),
			count(*) FILTER (WHERE NOT tells AND generated AND came = ?3 AND (did = '' OR renewed = '')), count(*) FILTER (WHERE tells), count(*) FILTER (WHERE NOT generated)
		FROM (SELECT coalesce(r.did, '') AS did, coalesce(r.outcome, ?3) AS came, s.sealed NOT LIKE 'given:%' AS generated, p.result AS renewed,
				EXISTS (SELECT 1 FROM steps m WHERE m.batch = s.batch AND m.row = s.row AND m."do" = ?5 AND m.role = ?6 AND m.result IN ('', ?7, ?8, ?9)) AS tells
			FROM secrets s LEFT JOIN results r ON r.batch = s.batch AND r.row = s.row
			LEFT JOIN steps p ON p.batch = s.batch AND p.row = s.row AND p."do" = ?4 WHERE s.batch = ?10) sealed`,
		account.Created, membership.Done, account.Waiting, membership.Renew, membership.Notify, tellsPassword, membership.Queued, membership.Sending, membership.Held, l.id)
	return c, err
}

// Wipe implements store.Passwords.
func (l *passwords) Wipe(ctx context.Context, rows []int) error {
	l.making.alter(l.id, rows)
	return l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx)); err != nil {
			return err
		}
		if err := tx.Alone(ctx, l.id); err != nil {
			return err
		}
		if rows == nil {
			wiped, err := tx.Exec(ctx, "DELETE FROM secrets WHERE batch = ?", l.id)
			if err != nil || wiped == 0 {
				return err
			}
			return wipedRows(ctx, tx, l.id, [][2]int{{0, math.MaxInt32}})
		}
		wiped, err := tx.Exec(ctx, "DELETE FROM secrets WHERE batch = ? AND row IN (LISTED(?))", l.id, jsonText(rows))
		if err != nil || wiped == 0 {
			return err
		}
		return wipedRows(ctx, tx, l.id, rangesOf(rows))
	})
}

// Key implements store.Passwords.
func (l *passwords) Key(ctx context.Context) (sealed string, err error) {
	if err = one(ctx, l, []any{&sealed}, "SELECT sealed FROM keys WHERE batch = ?", l.id); errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return sealed, err
}

// KeepKey implements store.Passwords.
func (l *passwords) KeepKey(ctx context.Context, sealed string) error {
	return l.Write(ctx, func(tx Tx) error {
		_, err := tx.Exec(ctx, "INSERT INTO keys (batch, sealed) VALUES (?, ?) ON CONFLICT (batch) DO NOTHING", l.id, sealed)
		return err
	})
}

// ForgetKey implements store.Passwords.
func (l *passwords) ForgetKey(ctx context.Context) error {
	return l.Write(ctx, func(tx Tx) error {
		_, err := tx.Exec(ctx, "DELETE FROM keys WHERE batch = ?", l.id)
		return err
	})
}
