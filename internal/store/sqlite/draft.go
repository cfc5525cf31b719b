package sqlite

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
	size   int // of rows, in bytes
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
		return s.Flush()
	}
	return nil
}

// Flush writes what was taken in.
func (s *spool) Flush() error {
	if len(s.rows) == 0 {
		return nil
	}
	err := s.ledger.write(s.ctx, func(tx *sql.Tx) error {
		insert, err := tx.PrepareContext(s.ctx, "INSERT INTO entries (batch, row, key, intent, outcome, account, version, changes, known, findings, cells, wanted) VALUES (?, ?, '', '', ?, '', '', '[]', '{}', '[]', ?, ?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, r := range s.rows {
			if _, err := insert.ExecContext(s.ctx, s.id, r.row, account.Waiting, r.cells, r.wanted); err != nil {
				return err
			}
		}
		return nil
	})
	s.rows, s.size = s.rows[:0], 0
	return err
}

// Spooled returns the next rows taken in beyond the row after, at most limit.
func (l *Ledger) Spooled(ctx context.Context, id, after, limit int) ([]store.Spooled, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT cells, wanted FROM entries WHERE batch = ? AND row > ? ORDER BY row LIMIT ?", id, after, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []store.Spooled
	for rows.Next() {
		var cells, wanted string
		s := store.Spooled{Wanted: &mapping.Wanted{}}
		if err := rows.Scan(&cells, &wanted); err != nil {
			return nil, err
		}
		if err := errors.Join(read(cells, &s.Cells), json.Unmarshal([]byte(wanted), s.Wanted)); err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, rows.Err()
}

// Decide writes the entries of rows taken in before.
func (l *Ledger) Decide(ctx context.Context, id int, entries []batch.Entry) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		update, err := tx.PrepareContext(ctx, "UPDATE entries SET key = ?, intent = ?, outcome = ?, account = ?, version = ?, changes = ?, known = ?, findings = ?, wanted = '' WHERE batch = ? AND row = ?")
		if err != nil {
			return err
		}
		defer update.Close()
		steps, err := writeSteps(ctx, tx)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if _, err := update.ExecContext(ctx, e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), id, e.Row); err != nil {
				return err
			}
			if err := errors.Join(keep(ctx, tx, id, e), steps.replace(ctx, id, e)); err != nil {
				return err
			}
		}
		return nil
	})
}

// keep keeps the sealed password of an entry.
func keep(ctx context.Context, tx *sql.Tx, id int, e batch.Entry) error {
	if e.Secret == "" {
		return nil
	}
	_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO secrets (batch, row, sealed) VALUES (?, ?, ?)", id, e.Row, e.Secret)
	return err
}

// Add writes entries that no row was taken in for.
func (l *Ledger) Add(ctx context.Context, id int, entries []batch.Entry) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		insert, err := tx.PrepareContext(ctx, "INSERT INTO entries (batch, row, key, intent, outcome, account, version, changes, known, findings, cells, wanted) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')")
		if err != nil {
			return err
		}
		defer insert.Close()
		steps, err := writeSteps(ctx, tx)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if _, err := insert.ExecContext(ctx, id, e.Row, e.Key, e.Intent, e.Outcome, e.Account, e.Version, changesText(e.Changes), jsonText(e.Known), jsonText(e.Findings), jsonText(e.Cells)); err != nil {
				return err
			}
			if err := steps.put(ctx, id, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// WithoutAccount returns which of the rows have no account and will get none.
func (l *Ledger) WithoutAccount(ctx context.Context, id int, rows []int) (map[int]bool, error) {
	found, err := l.db.QueryContext(ctx, `SELECT e.row FROM entries e WHERE e.batch = ? AND e.row IN (SELECT value FROM json_each(?))
		AND e.account = '' AND e.intent != ?`, id, jsonText(rows), account.Create)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	none := map[int]bool{}
	for found.Next() {
		var row int
		if err := found.Scan(&row); err != nil {
			return nil, err
		}
		none[row] = true
	}
	return none, found.Err()
}
