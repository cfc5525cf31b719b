package tables

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// Claim implements store.Lease.
func (l *lease) Claim(ctx context.Context, entries []batch.Entry, now time.Time) (claim store.Claim, err error) {
	rows := make([]int, 0, len(entries))
	for _, e := range entries {
		rows = append(rows, e.Row)
	}
	sent := now.UTC().Format(moment)
	err = l.surely(ctx, l.Write, func(tx Tx) error {
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		if err := one(ctx, tx, []any{&claim}, "INSERT INTO claims (batch, worker, sent, until) VALUES (?, ?, ?, ?) RETURNING n", l.id, l.worker.Name, sent, sent); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "INSERT INTO attempts (batch, row, claim) SELECT ?1, value, ?2 FROM (LISTED(?3)) listed", l.id, claim, jsonText(rows))
		return err
	})
	return claim, err
}

// ClaimSteps implements store.Lease.
func (l *lease) ClaimSteps(ctx context.Context, rows map[int][]int) error {
	var claims [][]any
	for n, rows := range rows {
		claims = append(claims, []any{membership.Sending, l.id, n, jsonText(rows)})
	}
	if len(claims) == 0 {
		return nil
	}
	return l.surely(ctx, l.Write, func(tx Tx) error {
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		return tx.Many(ctx, "UPDATE steps SET result = ? WHERE batch = ? AND n = ? AND row IN (LISTED(?))", claims)
	})
}

// Settle implements store.Lease.
func (l *lease) Settle(ctx context.Context, results []store.Result, now time.Time) error {
	if len(results) == 0 {
		return nil
	}
	var settled, steps [][]any
	for _, r := range results {
		e := r.Entry
		settled = append(settled, []any{l.id, e.Row, r.Claim, e.Outcome, e.Account, e.Version, jsonText(e.Findings), now.Format(stamp), e.Did, partText(e.Part), e.Proof, placeText(e.Place)})
		for n, s := range e.Steps {
			if s.Result != "" || s.Made { // else it is as it was drafted
				steps = append(steps, []any{s.Result, s.Target(), l.id, e.Row, n})
			}
		}
	}
	return l.surely(ctx, l.Write, func(tx Tx) error {
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		if err := tx.Many(ctx, `INSERT INTO results (batch, row, claim, outcome, account, version, findings, ended, did, part, proof, place) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (batch, row) DO UPDATE SET claim = CASE WHEN results.claim > excluded.claim THEN results.claim ELSE excluded.claim END,
			outcome = excluded.outcome, account = excluded.account, version = excluded.version, findings = excluded.findings, ended = excluded.ended, did = excluded.did, part = excluded.part, proof = excluded.proof, place = excluded.place`, settled); err != nil {
			return err
		}
		if err := tx.Many(ctx, "UPDATE steps SET result = ?, thing = ? WHERE batch = ? AND row = ? AND n = ?", steps); err != nil {
			return err
		}
		return noteResults(ctx, tx, l.id, l.worker, results, now.Format(stamp), l.Kept)
	})
}

// Prove implements store.Lease.
func (l *lease) Prove(ctx context.Context, proof batch.Proof, rows []int) error {
	if len(rows) == 0 {
		return nil
	}
	return l.surely(ctx, l.Write, func(tx Tx) error {
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		ranges := rangesOf(rows)
		var lists [][]any
		for _, r := range ranges {
			lists = append(lists, []any{proof, l.id, r[0], r[1]})
		}
		if err := tx.Many(ctx, "UPDATE results SET proof = ? WHERE batch = ? AND row BETWEEN ? AND ?", lists); err != nil {
			return err
		}
		_, err := add(ctx, tx, l.id, l.worker.Name, "proof", jsonText(proofs{{proof, ranges}}))
		return err
	})
}

// Proofs implements store.Posts.
func (l *Ledger) Proofs(ctx context.Context, id int) (map[batch.Proof]int, error) {
	counts := map[batch.Proof]int{}
	err := each(ctx, l, func(rows *sql.Rows) error {
		var proof batch.Proof
		n := 0
		err := rows.Scan(&proof, &n)
		counts[proof] = n
		return err
	}, "SELECT proof, count(*) FROM results WHERE batch = ? AND did <> '' GROUP BY proof", id)
	return counts, err
}

// Accounts returns the account of each of the rows, and what became of the row.
func (l *Ledger) Accounts(ctx context.Context, id int, rows []int) (accounts map[int]string, outcomes map[int]account.Outcome, err error) {
	found, err := l.Query(ctx, "SELECT e.row, coalesce(r.account, e.account), coalesce(r.outcome, e.outcome) FROM "+entriesNow+" WHERE e.batch = ? AND e.row IN (LISTED(?))", id, jsonText(rows))
	if err != nil {
		return nil, nil, err
	}
	defer found.Close()
	accounts, outcomes = map[int]string{}, map[int]account.Outcome{}
	for found.Next() {
		var row int
		var id string
		var outcome account.Outcome
		if err := found.Scan(&row, &id, &outcome); err != nil {
			return nil, nil, err
		}
		accounts[row], outcomes[row] = id, outcome
	}
	return accounts, outcomes, found.Err()
}

// Changing returns the identifiers, as they were drafted, of the accounts of which a batch
// changes fields.
func (l *Ledger) Changing(ctx context.Context, id int) (map[string]bool, error) {
	rows, err := l.Query(ctx, "SELECT account FROM entries WHERE batch = ? AND account <> '' AND changes <> '[]'", id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	accounts := map[string]bool{}
	for rows.Next() {
		var account string
		if err := rows.Scan(&account); err != nil {
			return nil, err
		}
		accounts[account] = true
	}
	return accounts, rows.Err()
}

// Steps implements store.Store.
func (l *Ledger) Steps(ctx context.Context, id int, does membership.Verb) ([]store.StepCount, error) {
	rows, err := l.Query(ctx, "SELECT name, result, count(*) FROM steps WHERE batch = ? AND \"do\" = ? GROUP BY name, result ORDER BY name, result", id, does)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []store.StepCount
	for rows.Next() {
		var c store.StepCount
		if err := rows.Scan(&c.Name, &c.Result, &c.N); err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	return all, rows.Err()
}

// Does implements store.Posts.
func (l *Ledger) Does(ctx context.Context, id int) (all []membership.Verb, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		var does membership.Verb
		err := rows.Scan(&does)
		all = append(all, does)
		return err
	}, `SELECT "do" FROM steps WHERE batch = ? GROUP BY "do"`, id)
	return all, err
}

// InFlight implements store.Posts.
func (l *Ledger) InFlight(ctx context.Context, id int, part store.Part) ([]store.InFlight, error) {
	return l.inFlight(ctx, id, part.Low, part.High)
}

// inFlight returns the entries among rows that were claimed and not settled.
func (l *Ledger) inFlight(ctx context.Context, id, low, high int) ([]store.InFlight, error) {
	var open []store.InFlight
	var claim store.Claim
	var first, sent string
	keep := func() error {
		f := store.InFlight{Claim: claim}
		var err error
		if f.First, err = time.Parse(stamp, first); err != nil {
			return err
		}
		f.Sent, err = time.Parse(stamp, sent)
		open = append(open, f)
		return err
	}
	err := l.Read(ctx, func(tx Tx) error {
		// From the attempts to their claims, and not from all claims of the batch, whatever an engine takes for shorter: a cross join is
		// left in its order.
		rows, err := tx.Query(ctx, `WITH open AS (
				SELECT a.row, max(c.n) AS n, min(c.sent) AS first, max(c.sent) AS sent FROM attempts a CROSS JOIN claims c
				LEFT JOIN results r ON r.batch = a.batch AND r.row = a.row AND r.claim >= a.claim
				WHERE a.batch = ?1 AND a.row BETWEEN ?2 AND ?3 AND c.n = a.claim AND r.row IS NULL GROUP BY a.row)
			SELECT `+entryColumns+`, '[]', `+sealed+`, open.n, open.first, open.sent FROM open CROSS JOIN `+entriesNow+` WHERE e.batch = ?1 AND e.row = open.row ORDER BY e.row`, id, low, high)
		if err != nil {
			return err
		}
		defer rows.Close()
		var entries []batch.Entry
		for rows.Next() {
			e, err := scan(rows, &claim, &first, &sent)
			if err == nil {
				err = keep()
			}
			if err != nil {
				return err
			}
			entries = append(entries, e)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(entries) == 0 {
			return err
		}
		if err := addSteps(ctx, tx, id, entries, false); err != nil {
			return err
		}
		for i := range open {
			open[i].Entry = entries[i]
		}
		return nil
	})
	return open, err
}

// LastEnded returns when the last result of a batch was noted; zero: there is none.
func (l *Ledger) LastEnded(ctx context.Context, id int) (at time.Time, err error) {
	var newest string
	if err := one(ctx, l, []any{&newest}, "SELECT coalesce(max(ended), '') FROM results WHERE batch = ?", id); err != nil || newest == "" {
		return at, err
	}
	return time.Parse(stamp, newest)
}

// Attempts implements store.Store.
func (l *Ledger) Attempts(ctx context.Context, id, row int) ([]store.Attempt, error) {
	rows, err := l.Query(ctx, `SELECT c.sent, coalesce(r.ended, ''), coalesce(r.outcome, '') FROM attempts a JOIN claims c ON c.n = a.claim
		LEFT JOIN results r ON r.batch = a.batch AND r.row = a.row AND r.claim = a.claim
		WHERE a.batch = ? AND a.row = ? ORDER BY a.claim`, id, row)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var attempts []store.Attempt
	for rows.Next() {
		var a store.Attempt
		var sent, ended string
		if err := rows.Scan(&sent, &ended, &a.Result); err != nil {
			return nil, err
		}
		if a.Sent, err = time.Parse(stamp, sent); err != nil {
			return nil, err
		}
		if ended != "" {
			if a.Ended, err = time.Parse(stamp, ended); err != nil {
				return nil, err
			}
		}
		attempts = append(attempts, a)
	}
	return attempts, rows.Err()
}
