package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store/tables"
)

// version of the tables, kept in SQLite's user_version.
const version = tables.Version

const first = `
CREATE TABLE batches (
	id INTEGER PRIMARY KEY, state TEXT NOT NULL, made TEXT NOT NULL, posted TEXT,
	system TEXT NOT NULL, rows INTEGER NOT NULL DEFAULT 0, about TEXT NOT NULL) STRICT;
CREATE TABLE entries (
	batch INTEGER NOT NULL, row INTEGER NOT NULL, key TEXT NOT NULL, intent TEXT NOT NULL,
	outcome TEXT NOT NULL, account TEXT NOT NULL, version TEXT NOT NULL, changes TEXT NOT NULL,
	known TEXT NOT NULL, findings TEXT NOT NULL, cells TEXT NOT NULL, wanted TEXT NOT NULL,
	PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID;
CREATE INDEX entries_by_outcome ON entries (batch, outcome, row);
-- rows is a JSON list of the rows whose requests are about to be sent.
CREATE TABLE intents (n INTEGER PRIMARY KEY, batch INTEGER NOT NULL, rows TEXT NOT NULL, sent TEXT NOT NULL) STRICT;
CREATE INDEX intents_by_batch ON intents (batch);
-- What became of an entry that was posted; intent is the last one it answers.
CREATE TABLE results (
	batch INTEGER NOT NULL, row INTEGER NOT NULL, intent INTEGER NOT NULL, outcome TEXT NOT NULL,
	account TEXT NOT NULL, version TEXT NOT NULL, findings TEXT NOT NULL, ended TEXT NOT NULL,
	PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID;
`

// steps is what version 2 has besides: what follows an account's own step, and the
// sealed passwords of accounts to be made.
const steps = `
ALTER TABLE entries ADD COLUMN steps TEXT NOT NULL DEFAULT '[]';
ALTER TABLE results ADD COLUMN did TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN steps TEXT NOT NULL DEFAULT '';
UPDATE results SET did = outcome WHERE outcome IN ('created', 'updated');
CREATE TABLE secrets (batch INTEGER NOT NULL, row INTEGER NOT NULL, sealed TEXT NOT NULL, PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID;
`

// rowsOfTheirOwn is what version 4 has otherwise: steps, and the rows of what was claimed,
// are rows of their own. A claim is what says that requests are about to be sent.
const rowsOfTheirOwn = `
CREATE TABLE steps (
	batch INTEGER NOT NULL, row INTEGER NOT NULL, n INTEGER NOT NULL, do TEXT NOT NULL, kind TEXT NOT NULL,
	thing TEXT NOT NULL, name TEXT NOT NULL, role TEXT NOT NULL, section TEXT NOT NULL, was TEXT,
	target INTEGER NOT NULL, made INTEGER NOT NULL, result TEXT NOT NULL,
	PRIMARY KEY (batch, row, n)) STRICT, WITHOUT ROWID;
CREATE TABLE claims (n INTEGER PRIMARY KEY, batch INTEGER NOT NULL, worker TEXT NOT NULL, sent TEXT NOT NULL, until TEXT NOT NULL) STRICT;
CREATE INDEX claims_by_worker ON claims (batch, worker);
DROP INDEX entries_by_outcome;
CREATE INDEX entries_by_outcome ON entries (batch, outcome, row, intent); -- all that counting needs
CREATE TABLE attempts (batch INTEGER NOT NULL, row INTEGER NOT NULL, claim INTEGER NOT NULL, PRIMARY KEY (batch, row, claim)) STRICT, WITHOUT ROWID;
INSERT INTO claims SELECT n, batch, '', sent, sent FROM intents;
INSERT INTO attempts SELECT i.batch, j.value, i.n FROM intents i, json_each(i.rows) j;
DROP TABLE intents;
ALTER TABLE results RENAME COLUMN intent TO claim;
`

// outward is what version 5 has besides: runs with nobody at the keyboard, and what steps of
// entries send out of the system, as it was drafted.
const outward = `
CREATE TABLE runs (id INTEGER PRIMARY KEY, about TEXT NOT NULL) STRICT;
CREATE TABLE outgoing (batch INTEGER NOT NULL, row INTEGER NOT NULL, name TEXT NOT NULL, about TEXT NOT NULL, PRIMARY KEY (batch, row, name)) STRICT, WITHOUT ROWID;
`

// shared is what version 6 has besides: who is at which batch, what of it each has, what it came
// to when nobody is, and what proves that nothing was altered.
const shared = `
ALTER TABLE batches ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE batches ADD COLUMN counts TEXT NOT NULL DEFAULT '';
CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
INSERT INTO meta (name, value) VALUES ('ledger', lower(hex(randomblob(16))));
CREATE TABLE workers (batch INTEGER NOT NULL, worker TEXT NOT NULL, who TEXT NOT NULL, began TEXT NOT NULL, until TEXT NOT NULL, PRIMARY KEY (batch, worker)) STRICT, WITHOUT ROWID;
CREATE TABLE parts (
	batch INTEGER NOT NULL, stage TEXT NOT NULL, low INTEGER NOT NULL, high INTEGER NOT NULL, n INTEGER NOT NULL,
	worker TEXT NOT NULL, ended INTEGER NOT NULL, PRIMARY KEY (batch, stage, low)) STRICT, WITHOUT ROWID;
CREATE TABLE history (
	batch INTEGER NOT NULL, chain TEXT NOT NULL, n INTEGER NOT NULL, at TEXT NOT NULL, what TEXT NOT NULL,
	body TEXT NOT NULL, hash TEXT NOT NULL, PRIMARY KEY (batch, chain, n)) STRICT, WITHOUT ROWID;
CREATE TABLE signatures (batch INTEGER NOT NULL, person TEXT NOT NULL, key TEXT NOT NULL, seal TEXT NOT NULL, signature TEXT NOT NULL, at TEXT NOT NULL, PRIMARY KEY (batch, person)) STRICT, WITHOUT ROWID;
CREATE TABLE keys (batch INTEGER PRIMARY KEY, sealed TEXT NOT NULL) STRICT;
`

// migrate brings the tables to the version that this program writes. A ledger that is of
// it already is only read, so that looking at one waits for nobody.
func (l *Ledger) migrate(ctx context.Context) error {
	has, err := versionOf(ctx, l)
	switch {
	case err != nil:
		return err
	case has > version:
		return fmt.Errorf("was written by a newer evenledger (tables of version %d; this one knows %d)", has, version)
	case has == version:
		return nil
	}
	return l.Write(ctx, func(tx tables.Tx) error {
		has, err := versionOf(ctx, tx) // another process may have been faster
		if err != nil || has >= version {
			return err
		}
		for _, step := range []func(context.Context, tables.Tx) error{statements(first), statements(steps), renameAbout, giveRows, statements(outward), share}[has:] {
			if err := step(ctx, tx); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, fmt.Sprintf("PRAGMA user_version = %d", version))
		return err
	})
}

func versionOf(ctx context.Context, q interface {
	Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error)
}) (has int, err error) {
	rows, err := q.Query(ctx, "PRAGMA user_version")
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	if rows.Next() {
		err = rows.Scan(&has)
	}
	return has, errors.Join(err, rows.Err())
}

func statements(text string) func(context.Context, tables.Tx) error {
	return func(ctx context.Context, tx tables.Tx) error {
		_, err := tx.Exec(ctx, text)
		return err
	}
}

// share brings a ledger of version 5 to version 6.
func share(ctx context.Context, tx tables.Tx) error {
	if _, err := tx.Exec(ctx, shared); err != nil {
		return err
	}
	rows, err := tx.Query(ctx, "SELECT id FROM batches")
	if err != nil {
		return err
	}
	defer rows.Close()
	var all []int
	for rows.Next() {
		var id int
		if err := rows.Scan(&id); err != nil {
			return err
		}
		all = append(all, id)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, id := range all {
		if err := tables.NoteCounts(ctx, tx, id); err != nil {
			return err
		}
	}
	return nil
}

// aboutUntil2 has the names under which versions 1 and 2 kept a batch where they are
// others than today's: those of the program's own fields.
type aboutUntil2 struct {
	ID   int
	Made time.Time
	Sum  string
}

// renameAbout brings what is known of batches to version 3.
func renameAbout(ctx context.Context, tx tables.Tx) error {
	rows, err := tx.Query(ctx, "SELECT id, about FROM batches")
	if err != nil {
		return err
	}
	defer rows.Close()
	renamed := map[int]string{}
	for rows.Next() {
		var id int
		var text string
		if err := rows.Scan(&id, &text); err != nil {
			return err
		}
		b, err := tables.ReadAbout(text) // names that differ only in capitals are read as they were
		if err != nil {
			return err
		}
		var old aboutUntil2
		if err := json.Unmarshal([]byte(text), &old); err != nil {
			return err
		}
		b.ID, b.Made, b.Sum = old.ID, old.Made, old.Sum
		if renamed[id], err = tables.WriteAbout(&b); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for id, text := range renamed {
		if _, err := tx.Exec(ctx, "UPDATE batches SET about = ? WHERE id = ?", text, id); err != nil {
			return err
		}
	}
	return nil
}

// giveRows brings a ledger of version 3 to version 4: the steps of an entry, which stood
// there in one text and their results in another, become rows.
func giveRows(ctx context.Context, tx tables.Tx) error {
	if _, err := tx.Exec(ctx, rowsOfTheirOwn); err != nil {
		return err
	}
	rows, err := tx.Query(ctx, "SELECT e.batch, e.row, e.steps, coalesce(r.steps, '') FROM entries e LEFT JOIN results r ON r.batch = e.batch AND r.row = e.row WHERE e.steps NOT IN ('', '[]', 'null')")
	if err != nil {
		return err
	}
	defer rows.Close()
	type old struct {
		id    int
		entry batch.Entry
	}
	var all []old
	for rows.Next() {
		var o old
		var steps, results string
		if err := rows.Scan(&o.id, &o.entry.Row, &steps, &results); err != nil {
			return err
		}
		if err := errors.Join(json.Unmarshal([]byte(steps), &o.entry.Steps), readResults(results, o.entry.Steps)); err != nil {
			return fmt.Errorf("batch %d, row %d: %w", o.id, o.entry.Row, err)
		}
		all = append(all, o)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, o := range all {
		if err := tables.PutSteps(ctx, tx, o.id, []batch.Entry{o.entry}); err != nil {
			return err
		}
	}
	_, err = tx.Exec(ctx, "ALTER TABLE entries DROP COLUMN steps; ALTER TABLE results DROP COLUMN steps")
	return err
}

// readResults reads what version 3 had of the results of steps: a letter for each, and the
// identifiers of things that were made for them.
func readResults(text string, steps []membership.Step) error {
	if text == "" {
		return nil
	}
	letters, made, _ := strings.Cut(text, " ")
	if len(letters) != len(steps) {
		return errors.New("the ledger's list of steps is broken")
	}
	for i := range steps {
		steps[i].Result = map[byte]membership.Result{'d': membership.Done, 'f': membership.Failed, 'u': membership.Unsent}[letters[i]]
	}
	for _, one := range strings.Fields(made) {
		at, id, _ := strings.Cut(one, "=")
		if i, err := strconv.Atoi(at); err == nil && i < len(steps) {
			steps[i].Thing = strings.ReplaceAll(id, "\x1f", " ")
		}
	}
	return nil
}
