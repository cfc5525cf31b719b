package tables

import (
	"context"
	"database/sql"
	"errors"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// A draft is a store.Drafting.
type draft struct {
	*Ledger
	id int
}

// Drafting implements store.Drafts.
func (l *Ledger) Drafting(id int) store.Drafting { return &draft{l, id} }

// Decide implements store.Drafting.
func (l *draft) Decide(ctx context.Context, entries []batch.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	var decided, rows [][]any
	var numbers []int
	for _, e := range entries {
		decided = append(decided, []any{e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), l.id, e.Row})
		rows, numbers = append(rows, []any{l.id, e.Row}), append(numbers, e.Row)
	}
	l.making.alter(l.id, numbers)
	return l.Note(ctx, func(tx Tx) error {
		if err := tx.Many(ctx, "UPDATE entries SET key = ?, intent = ?, outcome = ?, account = ?, version = ?, changes = ?, known = ?, findings = ? WHERE batch = ? AND row = ?", decided); err != nil {
			return err
		}
		if err := tx.Many(ctx, "DELETE FROM steps WHERE batch = ? AND row = ?", rows); err != nil {
			return err
		}
		return errors.Join(putSecrets(ctx, tx, l.id, entries), PutSteps(ctx, tx, l.id, entries))
	})
}

// Add implements store.Drafting.
func (l *draft) Add(ctx context.Context, entries []batch.Entry) error {
	lists := make([][]any, len(entries))
	for i, e := range entries {
		lists[i] = []any{l.id, e.Row, e.Key, string(e.Intent), string(e.Outcome), e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), textsText(e.Cells)}
	}
	marks := make(chan markPage, 1)
	go func() { marks <- draftMarks(entries, lists, l.Kept) }() // while they are written
	defer func() { l.making.add(l.id, <-marks) }()
	return l.Note(ctx, func(tx Tx) error {
		if err := tx.Many(ctx, "INSERT INTO entries (batch, row, key, intent, outcome, account, version, changes, known, findings, cells) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", lists); err != nil {
			return err
		}
		return errors.Join(putSecrets(ctx, tx, l.id, entries), PutSteps(ctx, tx, l.id, entries))
	})
}

// putSecrets writes the sealed passwords of entries. Nobody gets what was made for one that is refused.
func putSecrets(ctx context.Context, tx Tx, id int, entries []batch.Entry) error {
	var sealed, refused [][]any
	for _, e := range entries {
		switch {
		case e.Outcome == account.Refused:
			refused = append(refused, []any{id, e.Row})
		case e.Secret != "":
			sealed = append(sealed, []any{id, e.Row, e.Secret})
		}
	}
	return errors.Join(
		tx.Many(ctx, "INSERT INTO secrets (batch, row, sealed) VALUES (?, ?, ?) ON CONFLICT (batch, row) DO UPDATE SET sealed = excluded.sealed", sealed),
		tx.Many(ctx, "DELETE FROM secrets WHERE batch = ? AND row = ?", refused))
}

// WithoutAccount implements store.Drafting.
func (l *draft) WithoutAccount(ctx context.Context, rows []int) (map[int]bool, error) {
	none := map[int]bool{}
	err := each(ctx, l, func(found *sql.Rows) error {
		var row int
		err := found.Scan(&row)
		none[row] = true
		return err
	}, `SELECT e.row FROM entries e WHERE e.batch = ? AND e.row IN (LISTED(?)) AND e.account = '' AND e.intent != ?`, l.id, jsonText(rows), account.Create)
	return none, err
}

// Discard implements store.Drafting.
func (l *draft) Discard(ctx context.Context) error {
	l.making.take(l.id)
	return l.Write(ctx, func(tx Tx) error {
		if err := tx.Alone(ctx, 0); err != nil {
			return err
		}
		return l.discard(ctx, tx, l.id)
	})
}
