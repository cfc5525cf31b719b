package tables

import (
	"context"
	"database/sql"
	"errors"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// Decide implements store.Drafts.
func (l *Ledger) Decide(ctx context.Context, id int, entries []batch.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	var decided, rows [][]any
	for _, e := range entries {
		decided = append(decided, []any{e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), id, e.Row})
		rows = append(rows, []any{id, e.Row})
	}
	return l.Note(ctx, func(tx Tx) error {
		if err := tx.Many(ctx, "UPDATE entries SET key = ?, intent = ?, outcome = ?, account = ?, version = ?, changes = ?, known = ?, findings = ? WHERE batch = ? AND row = ?", decided); err != nil {
			return err
		}
		if err := tx.Many(ctx, "DELETE FROM steps WHERE batch = ? AND row = ?", rows); err != nil {
			return err
		}
		return errors.Join(putSecrets(ctx, tx, id, entries), PutSteps(ctx, tx, id, entries))
	})
}

// Add implements store.Drafts.
func (l *Ledger) Add(ctx context.Context, id int, entries []batch.Entry) error {
	lists := make([][]any, 0, len(entries))
	for _, e := range entries {
		lists = append(lists, []any{id, e.Row, e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), textsText(e.Cells)})
	}
	return l.Note(ctx, func(tx Tx) error {
		if err := tx.Many(ctx, "INSERT INTO entries (batch, row, key, intent, outcome, account, version, changes, known, findings, cells) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", lists); err != nil {
			return err
		}
		return errors.Join(putSecrets(ctx, tx, id, entries), PutSteps(ctx, tx, id, entries))
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

// WithoutAccount returns which of the rows have no account and will get none.
func (l *Ledger) WithoutAccount(ctx context.Context, id int, rows []int) (map[int]bool, error) {
	none := map[int]bool{}
	err := each(ctx, l, func(found *sql.Rows) error {
		var row int
		err := found.Scan(&row)
		none[row] = true
		return err
	}, `SELECT e.row FROM entries e WHERE e.batch = ? AND e.row IN (LISTED(?)) AND e.account = '' AND e.intent != ?`, id, jsonText(rows), account.Create)
	return none, err
}
