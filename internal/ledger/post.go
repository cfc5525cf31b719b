package ledger

import (
	"context"
	"database/sql"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// A StepState is how far one request of an entry has come.
type StepState string

// The states of a step. Sent means that the request may be on its way: it was
// noted before it was sent, and no result was noted since.
const (
	Sent   StepState = "sent"
	Done   StepState = "done"
	Undone StepState = "undone" // it certainly had no effect
)

// A Step is one request of an entry.
type Step struct {
	Row    int        `json:"row"`
	Action string     `json:"action"` // "create", "change"
	State  StepState  `json:"state"`
	Sent   time.Time  `json:"sent"`
	Ended  *time.Time `json:"ended,omitempty"`
	Result string     `json:"result,omitempty"`
}

// Intend notes that the steps of these entries are about to be sent. It is on
// disk when Intend returns.
func (l *Ledger) Intend(ctx context.Context, id int, entries []batch.Entry, now time.Time) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		insert, err := tx.PrepareContext(ctx, "INSERT INTO steps (batch, row, n, action, state, sent) VALUES (?, ?, (SELECT coalesce(max(n), 0) + 1 FROM steps WHERE batch = ?1 AND row = ?2), ?3, ?4, ?5)")
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, e := range entries {
			action := "change"
			if e.Intent == account.Create {
				action = "create"
			}
			if _, err := insert.ExecContext(ctx, id, e.Row, action, Sent, now.Format(stamp)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Record notes what became of entries whose steps were intended. An entry that
// is still waiting had no effect, and its step is noted as undone.
func (l *Ledger) Record(ctx context.Context, id int, entries []batch.Entry, now time.Time) error {
	if len(entries) == 0 {
		return nil
	}
	return l.write(ctx, func(tx *sql.Tx) error {
		step, err := tx.PrepareContext(ctx, "UPDATE steps SET state = ?, ended = ?, result = ? WHERE batch = ? AND row = ? AND state = ?")
		if err != nil {
			return err
		}
		defer step.Close()
		entry, err := tx.PrepareContext(ctx, "UPDATE entries SET outcome = ?, account = ?, version = ?, findings = ? WHERE batch = ? AND row = ?")
		if err != nil {
			return err
		}
		defer entry.Close()
		for _, e := range entries {
			state := Done
			if e.Outcome == account.Waiting || e.Outcome == account.Refused {
				state = Undone
			}
			if _, err := step.ExecContext(ctx, state, now.Format(stamp), string(e.Outcome), id, e.Row, Sent); err != nil {
				return err
			}
			if _, err := entry.ExecContext(ctx, e.Outcome, e.Account, e.Version, jsonText(e.Findings), id, e.Row); err != nil {
				return err
			}
		}
		return nil
	})
}

// An InFlight is an entry with a step whose result is not known.
type InFlight struct {
	batch.Entry
	Sent time.Time
}

// InFlight returns the entries that have a step without a result: a post was cut
// short while they were on their way.
func (l *Ledger) InFlight(ctx context.Context, id int) ([]InFlight, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT e.row, e.key, e.intent, e.outcome, e.account, e.version, e.changes, e.known, e.findings, e.cells, s.sent FROM entries e JOIN steps s ON s.batch = e.batch AND s.row = e.row WHERE s.batch = ? AND s.state = ? ORDER BY e.row", id, Sent)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var open []InFlight
	for rows.Next() {
		var sent string
		e, err := scan(rows, &sent)
		if err != nil {
			return nil, err
		}
		at, err := time.Parse(stamp, sent)
		if err != nil {
			return nil, err
		}
		open = append(open, InFlight{e, at})
	}
	return open, rows.Err()
}

// Steps returns the steps of a row in their order.
func (l *Ledger) Steps(ctx context.Context, id, row int) ([]Step, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT row, action, state, sent, ended, coalesce(result, '') FROM steps WHERE batch = ? AND row = ? ORDER BY n", id, row)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var steps []Step
	for rows.Next() {
		var s Step
		var sent string
		var ended sql.NullString
		if err := rows.Scan(&s.Row, &s.Action, &s.State, &sent, &ended, &s.Result); err != nil {
			return nil, err
		}
		if s.Sent, err = time.Parse(stamp, sent); err != nil {
			return nil, err
		}
		if ended.Valid {
			at, err := time.Parse(stamp, ended.String)
			if err != nil {
				return nil, err
			}
			s.Ended = &at
		}
		steps = append(steps, s)
	}
	return steps, rows.Err()
}
