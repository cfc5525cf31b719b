package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// An Intent is the number of a note that requests are about to be sent.
type Intent int64

// Intend notes that the requests of these entries are about to be sent. The note
// is on disk when Intend returns.
func (l *Ledger) Intend(ctx context.Context, id int, entries []batch.Entry, now time.Time) (n Intent, err error) {
	rows := make([]int, len(entries))
	for i, e := range entries {
		rows[i] = e.Row
	}
	err = l.write(ctx, func(tx *sql.Tx) error {
		return tx.StmtContext(ctx, l.intend).QueryRowContext(ctx, id, jsonText(rows), now.Format(stamp)).Scan(&n)
	})
	return n, err
}

// A Result is what became of an entry whose request was intended. An entry that
// is still waiting had no effect.
type Result struct {
	Entry  batch.Entry
	Intent Intent
}

// Record notes results. They are on disk when Record returns.
func (l *Ledger) Record(ctx context.Context, id int, results []Result, now time.Time) error {
	if len(results) == 0 {
		return nil
	}
	type line struct {
		Row      int               `json:"row"`
		Intent   Intent            `json:"intent"`
		Outcome  account.Outcome   `json:"outcome"`
		Account  string            `json:"account"`
		Version  string            `json:"version"`
		Findings []account.Finding `json:"findings"`
		Did      account.Outcome   `json:"did"`
		Steps    string            `json:"steps"`
	}
	lines := make([]line, len(results))
	for i, r := range results {
		lines[i] = line{r.Entry.Row, r.Intent, r.Entry.Outcome, r.Entry.Account, r.Entry.Version, r.Entry.Findings, r.Entry.Did, stepped(r.Entry.Steps)}
		if lines[i].Findings == nil {
			lines[i].Findings = []account.Finding{}
		}
	}
	data, err := json.Marshal(lines)
	if err != nil {
		return err
	}
	return l.write(ctx, func(tx *sql.Tx) error {
		_, err := tx.StmtContext(ctx, l.record).ExecContext(ctx, id, now.Format(stamp), string(data))
		return err
	})
}

// Accounts returns the account of each of the rows, and what became of the row.
func (l *Ledger) Accounts(ctx context.Context, id int, rows []int) (accounts map[int]string, outcomes map[int]account.Outcome, err error) {
	found, err := l.db.QueryContext(ctx, "SELECT e.row, coalesce(r.account, e.account), coalesce(r.outcome, e.outcome) FROM "+entriesNow+" WHERE e.batch = ? AND e.row IN (SELECT value FROM json_each(?))", id, jsonText(rows))
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
	rows, err := l.db.QueryContext(ctx, "SELECT account FROM entries WHERE batch = ? AND account <> '' AND changes <> '[]'", id)
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

// Wipe takes the sealed passwords of rows away for good; of all if rows is nil.
func (l *Ledger) Wipe(ctx context.Context, id int, rows []int) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		if rows == nil {
			_, err := tx.ExecContext(ctx, "DELETE FROM secrets WHERE batch = ?", id)
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM secrets WHERE batch = ? AND row IN (SELECT value FROM json_each(?))", id, jsonText(rows))
		return err
	})
}

// Given returns how many passwords that sheets gave the batch keeps.
func (l *Ledger) Given(ctx context.Context, id int) (n int, err error) {
	err = l.db.QueryRowContext(ctx, "SELECT count(*) FROM secrets WHERE batch = ? AND sealed LIKE 'given:%'", id).Scan(&n)
	return n, err
}

// Open returns how many entries wait whose account's own step is still to be done.
func (l *Ledger) Open(ctx context.Context, id int) (n int, err error) {
	err = l.db.QueryRowContext(ctx, "SELECT count(*) FROM "+entriesNow+" WHERE e.batch = ? AND coalesce(r.outcome, e.outcome) = ? AND coalesce(r.did, '') = ''", id, account.Waiting).Scan(&n)
	return n, err
}

// Secrets returns how many generated passwords the batch keeps: of accounts that were
// made, and of those that wait to be.
func (l *Ledger) Secrets(ctx context.Context, id int) (made, waiting int, err error) {
	err = l.db.QueryRowContext(ctx, `SELECT count(*) FILTER (WHERE r.did = ?), count(*) FILTER (WHERE coalesce(r.outcome, ?) = ? AND coalesce(r.did, '') = '')
		FROM secrets s LEFT JOIN results r ON r.batch = s.batch AND r.row = s.row WHERE s.batch = ? AND s.sealed NOT LIKE 'given:%'`,
		account.Created, account.Waiting, account.Waiting, id).Scan(&made, &waiting)
	return made, waiting, err
}

// An InFlight is an entry whose request was intended and whose result is not
// known: a post was cut short while it was on its way.
type InFlight struct {
	Entry  batch.Entry
	Intent Intent
	First  time.Time // when it was first sent, of the times whose result is not known
	Sent   time.Time // and last
}

// InFlight returns the entries on their way, in the order of their rows.
func (l *Ledger) InFlight(ctx context.Context, id int) ([]InFlight, error) {
	rows, err := l.db.QueryContext(ctx, `WITH open AS (
			SELECT j.value AS row, max(i.n) AS n, min(i.sent) AS first, max(i.sent) AS sent FROM intents i, json_each(i.rows) j
			LEFT JOIN results a ON a.batch = i.batch AND a.row = j.value AND a.intent >= i.n
			WHERE i.batch = ? AND a.row IS NULL GROUP BY j.value)
		SELECT `+entryColumns+`, '[]', `+sealed+`, open.n, open.first, open.sent FROM `+entriesNow+` JOIN open ON open.row = e.row WHERE e.batch = ? ORDER BY e.row`, id, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var open []InFlight
	for rows.Next() {
		var f InFlight
		var first, sent string
		if f.Entry, err = scan(rows, &f.Intent, &first, &sent); err != nil {
			return nil, err
		}
		if f.First, err = time.Parse(stamp, first); err != nil {
			return nil, err
		}
		if f.Sent, err = time.Parse(stamp, sent); err != nil {
			return nil, err
		}
		open = append(open, f)
	}
	return open, rows.Err()
}

// MadeSince hands over the entries whose accounts batches of a system made since a time,
// and those of which it is open whether they did: Did is empty then. Accounts that a
// batch removed again since are left out.
func (l *Ledger) MadeSince(ctx context.Context, system string, since time.Time, each func(id int, e *batch.Entry, at time.Time)) error {
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	removed := map[string]bool{}
	for _, b := range all { // the newest first
		ended := b.State == batch.Posted || b.State == batch.Reversed
		if b.System != system || b.Posted.IsZero() || ended && b.Posted.Before(since.Add(-longestPost)) {
			continue
		}
		if !ended {
			open, err := l.InFlight(ctx, b.ID)
			if err != nil {
				return err
			}
			for i := range open {
				// What is open for so long would show by now.
				if e := &open[i].Entry; e.Intent == account.Create && open[i].Sent.After(since.Add(-longestPost)) {
					each(b.ID, e, open[i].Sent)
				}
			}
		}
		of, err := l.endedSince(ctx, b, since)
		if err != nil {
			return err
		}
		for _, e := range of {
			switch {
			case e.entry.Did == account.Removed:
				removed[e.entry.Account] = true
			case e.entry.Did == account.Created && !removed[e.entry.Account]:
				each(b.ID, &e.entry, e.at)
			}
		}
	}
	return nil
}

// LastEnded returns when the last result of a batch was noted; zero: there is none.
func (l *Ledger) LastEnded(ctx context.Context, id int) (at time.Time, err error) {
	var newest string
	if err := l.db.QueryRowContext(ctx, "SELECT coalesce(max(ended), '') FROM results WHERE batch = ?", id).Scan(&newest); err != nil || newest == "" {
		return at, err
	}
	return time.Parse(stamp, newest)
}

// longestPost is how long a post may take; what began before it is not looked at for what
// ended of late.
const longestPost = 24 * time.Hour

type endedAt struct {
	entry batch.Entry
	at    time.Time
}

// endedSince returns the entries of a batch that made or removed an account since a time.
func (l *Ledger) endedSince(ctx context.Context, b batch.Batch, since time.Time) ([]endedAt, error) {
	if last, err := l.LastEnded(ctx, b.ID); err != nil || last.Before(since) {
		return nil, err
	}
	rows, err := l.db.QueryContext(ctx, "SELECT "+entryColumns+", '[]', '', r.ended FROM "+entriesNow+" WHERE e.batch = ? AND r.did IN (?, ?)", b.ID, account.Created, account.Removed)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []endedAt
	for rows.Next() {
		var ended string
		e, err := scan(rows, &ended)
		if err != nil {
			return nil, err
		}
		at, err := time.Parse(stamp, ended)
		if err != nil {
			return nil, err
		}
		if !at.Before(since) {
			all = append(all, endedAt{e, at})
		}
	}
	return all, rows.Err()
}

// A Step is one time that an entry's request was intended, with the result if it
// is the last.
type Step struct {
	Sent   time.Time
	Ended  time.Time // zero: not known
	Result account.Outcome
}

// Steps returns the steps of a row in their order.
func (l *Ledger) Steps(ctx context.Context, id, row int) ([]Step, error) {
	rows, err := l.db.QueryContext(ctx, `SELECT i.sent, coalesce(r.ended, ''), coalesce(r.outcome, '') FROM intents i
		LEFT JOIN results r ON r.batch = i.batch AND r.row = ?2 AND r.intent = i.n
		WHERE i.batch = ?1 AND EXISTS (SELECT 1 FROM json_each(i.rows) WHERE value = ?2) ORDER BY i.n`, id, row)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var steps []Step
	for rows.Next() {
		var s Step
		var sent, ended string
		if err := rows.Scan(&sent, &ended, &s.Result); err != nil {
			return nil, err
		}
		if s.Sent, err = time.Parse(stamp, sent); err != nil {
			return nil, err
		}
		if ended != "" {
			if s.Ended, err = time.Parse(stamp, ended); err != nil {
				return nil, err
			}
		}
		steps = append(steps, s)
	}
	return steps, rows.Err()
}
