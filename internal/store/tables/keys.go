package tables

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"

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
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), tx.Alone(ctx, id)); err != nil {
			return err
		}
		if s.As == store.Poster {
			if _, head, err := last(ctx, tx, id, ofBatch); err != nil {
				return err
			} else if head != s.Of {
				return store.ErrChanged
			}
		}
		_, err := add(ctx, tx, id, ofBatch, "signature", jsonText(s))
		return err
	})
}

// Signatures implements store.Store.
func (l *Ledger) Signatures(ctx context.Context, id int) (all []store.Signature, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		var body string
		if err := rows.Scan(&body); err != nil {
			return err
		}
		var s store.Signature
		if err := json.Unmarshal([]byte(body), &s); err != nil {
			return err
		}
		all = append(slices.DeleteFunc(all, func(was store.Signature) bool { return was.As == s.As && was.Person == s.Person }), s)
		return nil
	}, "SELECT body FROM history WHERE batch = ? AND chain = ? AND what = 'signature' ORDER BY n", id, ofBatch)
	return all, err
}

// Heads implements store.Store.
func (l *Ledger) Heads(ctx context.Context, id int) (head store.Head, err error) {
	err = l.Read(ctx, func(tx Tx) (err error) {
		head, err = headOf(ctx, tx, id)
		return err
	})
	return head, err
}

func headOf(ctx context.Context, tx Tx, id int) (head store.Head, err error) {
	head.Batch = id
	if err := one(ctx, tx, []any{&head.Seal}, "SELECT seal FROM batches WHERE id = ?", id); err != nil {
		return head, err
	}
	if _, head.Hash, err = last(ctx, tx, id, ofBatch); err != nil {
		return head, err
	}
	head.Workers, err = heads(ctx, tx, id)
	return head, err
}

// NoteHeads implements store.Store.
func (l *Ledger) NoteHeads(ctx context.Context, id int) (hash string, err error) {
	err = l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), tx.Alone(ctx, id)); err != nil {
			return err
		}
		of, err := heads(ctx, tx, id)
		if err == nil {
			hash, err = add(ctx, tx, id, ofBatch, "heads", jsonText(of))
		}
		return err
	})
	return hash, err
}

// Ends implements store.Store.
func (l *Ledger) Ends(ctx context.Context, id int) (signed *store.Signature, err error) {
	err = l.Read(ctx, func(tx Tx) error {
		var n int
		var what, body, before string
		if err := one(ctx, tx, []any{&n, &what, &body}, "SELECT n, what, body FROM history WHERE batch = ? AND chain = ? ORDER BY n DESC LIMIT 1", id, ofBatch); err != nil || what != "signature" {
			return ignoreNone(err)
		}
		var s store.Signature
		if err := json.Unmarshal([]byte(body), &s); err != nil || s.As != store.Poster {
			return err
		}
		if err := one(ctx, tx, []any{&before, &body}, "SELECT hash, body FROM history WHERE batch = ? AND chain = ? AND n = ? AND what = 'heads'", id, ofBatch, n-1); err != nil {
			return ignoreNone(err)
		}
		of, err := heads(ctx, tx, id)
		if err == nil && before == s.Of && jsonText(of) == body {
			signed = &s
		}
		return err
	})
	return signed, err
}

func ignoreNone(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// Has implements store.Store.
func (l *Ledger) Has(ctx context.Context, head store.Head) (missing string, err error) {
	for _, hash := range append([]string{head.Seal, head.Hash}, slices.Sorted(maps.Values(head.Workers))...) {
		var n int
		if err := one(ctx, l, []any{&n}, "SELECT count(*) FROM history WHERE batch = ? AND hash = ?", head.Batch, hash); err != nil || n == 0 && hash != "" {
			return hash, err
		}
	}
	return "", nil
}
