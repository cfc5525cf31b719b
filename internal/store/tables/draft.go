package tables

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/mapping"
	"evenledger/internal/store"
)

// spoolSize is how many rows of a draft are committed together.
const (
	spoolSize  = 2000
	spoolBytes = 8 << 20 // or as soon as they take this much
)

// spool is a store.Spool.
type spool struct {
	ledger *Ledger
	ctx    context.Context
	id     int
	rows   []spooledRow
	size   int        // of rows, in bytes
	writes chan error // what became of the rows that are being written while more come in; nil: none are
}

type spooledRow struct {
	row           int
	cells, wanted string
}

// Spool implements store.Store.
func (l *Ledger) Spool(ctx context.Context, id int) store.Spool {
	return &spool{ledger: l, ctx: ctx, id: id}
}

// Add takes a row in.
func (s *spool) Add(cells []string, w *mapping.Wanted) error {
	r := spooledRow{w.Row, jsonText(cells), jsonText(w)}
	s.rows = append(s.rows, r)
	if s.size += len(r.cells) + len(r.wanted); len(s.rows) == spoolSize || s.size > spoolBytes {
		return s.begin()
	}
	return nil
}

// Flush writes what was taken in.
func (s *spool) Flush() error { return errors.Join(s.begin(), s.written()) }

// written waits for the rows that are being written.
func (s *spool) written() error {
	if s.writes == nil {
		return nil
	}
	err := <-s.writes
	s.writes = nil
	return err
}

// begin begins to write what was taken in, once what came before is written.
func (s *spool) begin() error {
	if err := s.written(); err != nil || len(s.rows) == 0 {
		return err
	}
	lists := make([][]any, 0, len(s.rows))
	for _, r := range s.rows {
		lists = append(lists, []any{s.id, r.row, account.Waiting, r.cells, r.wanted})
	}
	writes := make(chan error, 1)
	go func() {
		writes <- s.ledger.Write(s.ctx, func(tx Tx) error {
			return tx.Many(s.ctx, "INSERT INTO entries (batch, row, key, intent, outcome, account, version, changes, known, findings, cells, wanted) VALUES (?, ?, '', '', ?, '', '', '[]', '{}', '[]', ?, ?)", lists)
		})
	}()
	s.rows, s.size, s.writes = s.rows[:0], 0, writes
	return nil
}

// Spooled returns the next rows taken in beyond the row after, at most limit.
func (l *Ledger) Spooled(ctx context.Context, id, after, limit int) (all []store.Spooled, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		var cells, wanted string
		s := store.Spooled{Wanted: &mapping.Wanted{}}
		if err := rows.Scan(&cells, &wanted); err != nil {
			return err
		}
		all = append(all, s)
		return errors.Join(read(cells, &all[len(all)-1].Cells), json.Unmarshal([]byte(wanted), s.Wanted))
	}, "SELECT cells, wanted FROM entries WHERE batch = ? AND row > ? ORDER BY row LIMIT ?", id, after, limit)
	return all, err
}

// Decide writes the entries of rows taken in before.
func (l *Ledger) Decide(ctx context.Context, id int, entries []batch.Entry) error {
	var decided, sealed, refused, rows [][]any
	for _, e := range entries {
		decided = append(decided, []any{e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), id, e.Row})
		if e.Secret != "" {
			sealed = append(sealed, []any{id, e.Row, e.Secret})
		}
		if e.Outcome == account.Refused { // nobody gets what was made for it
			refused = append(refused, []any{id, e.Row})
		}
		rows = append(rows, []any{id, e.Row})
	}
	return l.Write(ctx, func(tx Tx) error {
		if err := tx.Many(ctx, "UPDATE entries SET key = ?, intent = ?, outcome = ?, account = ?, version = ?, changes = ?, known = ?, findings = ?, wanted = '' WHERE batch = ? AND row = ?", decided); err != nil {
			return err
		}
		if err := tx.Many(ctx, "INSERT INTO secrets (batch, row, sealed) VALUES (?, ?, ?) ON CONFLICT (batch, row) DO UPDATE SET sealed = excluded.sealed", sealed); err != nil {
			return err
		}
		if err := tx.Many(ctx, "DELETE FROM secrets WHERE batch = ? AND row = ?", refused); err != nil {
			return err
		}
		if err := tx.Many(ctx, "DELETE FROM steps WHERE batch = ? AND row = ?", rows); err != nil {
			return err
		}
		return PutSteps(ctx, tx, id, entries)
	})
}

// Add writes entries that no row was taken in for.
func (l *Ledger) Add(ctx context.Context, id int, entries []batch.Entry) error {
	var lists [][]any
	for _, e := range entries {
		lists = append(lists, []any{id, e.Row, e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), jsonText(e.Cells)})
	}
	return l.Write(ctx, func(tx Tx) error {
		if err := tx.Many(ctx, "INSERT INTO entries (batch, row, key, intent, outcome, account, version, changes, known, findings, cells, wanted) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')", lists); err != nil {
			return err
		}
		return PutSteps(ctx, tx, id, entries)
	})
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
