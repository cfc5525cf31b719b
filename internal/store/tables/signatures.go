package tables

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/store"
)

// A history is a store.History.
type history struct {
	*Ledger
	id int
}

// History implements store.Store.
func (l *Ledger) History(id int) store.History { return &history{l, id} }

// ToDo implements store.History.
func (l *history) ToDo(ctx context.Context) (n int, err error) {
	err = one(ctx, l, []any{&n}, "SELECT count(*) FROM entries WHERE batch = ? AND outcome = ?", l.id, account.Waiting)
	return n, err
}

// Sign implements store.History.
func (l *history) Sign(ctx context.Context, s store.Signature) error {
	return l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), tx.Alone(ctx, l.id)); err != nil {
			return err
		}
		if s.As == store.Poster {
			if _, head, err := last(ctx, tx, l.id, ofBatch); err != nil {
				return err
			} else if head != s.Of {
				return store.ErrChanged
			}
		}
		_, err := add(ctx, tx, l.id, ofBatch, "signature", jsonText(s))
		return err
	})
}

// Signatures implements store.History.
func (l *history) Signatures(ctx context.Context) (all []store.Signature, err error) {
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
	}, "SELECT body FROM history WHERE batch = ? AND chain = ? AND what = 'signature' ORDER BY n", l.id, ofBatch)
	return all, err
}

// Head implements store.History.
func (l *history) Head(ctx context.Context) (head store.Head, err error) {
	err = l.Read(ctx, func(tx Tx) (err error) {
		head, err = headOf(ctx, tx, l.id)
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

// NoteHeads implements store.History.
func (l *history) NoteHeads(ctx context.Context) (hash string, err error) {
	err = l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), tx.Alone(ctx, l.id)); err != nil {
			return err
		}
		of, err := heads(ctx, tx, l.id)
		if err == nil {
			hash, err = add(ctx, tx, l.id, ofBatch, "heads", jsonText(of))
		}
		return err
	})
	return hash, err
}

// Ends implements store.History.
func (l *history) Ends(ctx context.Context) (signed *store.Signature, err error) {
	err = l.Read(ctx, func(tx Tx) error {
		var n int
		var what, body, before string
		if err := one(ctx, tx, []any{&n, &what, &body}, "SELECT n, what, body FROM history WHERE batch = ? AND chain = ? ORDER BY n DESC LIMIT 1", l.id, ofBatch); err != nil || what != "signature" {
			return ignoreNone(err)
		}
		var s store.Signature
		if err := json.Unmarshal([]byte(body), &s); err != nil || s.As != store.Poster {
			return err
		}
		if err := one(ctx, tx, []any{&before, &body}, "SELECT hash, body FROM history WHERE batch = ? AND chain = ? AND n = ? AND what = 'heads'", l.id, ofBatch, n-1); err != nil {
			return ignoreNone(err)
		}
		of, err := heads(ctx, tx, l.id)
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

// Lacks implements store.History.
func (l *history) Lacks(ctx context.Context, head store.Head) (missing string, err error) {
	for _, hash := range append([]string{head.Seal, head.Hash}, slices.Sorted(maps.Values(head.Workers))...) {
		var n int
		if err := one(ctx, l, []any{&n}, "SELECT count(*) FROM history WHERE batch = ? AND hash = ?", l.id, hash); err != nil || n == 0 && hash != "" {
			return hash, err
		}
	}
	return "", nil
}
