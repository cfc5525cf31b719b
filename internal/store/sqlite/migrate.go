package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"evenledger/internal/store/tables"
)

// version of the tables, kept in SQLite's user_version.
const version = tables.Version

// all are the tables.
const all = `
CREATE TABLE batches (
	id INTEGER PRIMARY KEY, state TEXT NOT NULL, system TEXT NOT NULL, seal TEXT NOT NULL DEFAULT '', head TEXT NOT NULL DEFAULT '', draft TEXT NOT NULL, progress TEXT NOT NULL,
	revision INTEGER NOT NULL DEFAULT 0, counts TEXT NOT NULL DEFAULT '') STRICT;
CREATE TABLE entries (
	batch INTEGER NOT NULL, row INTEGER NOT NULL, key TEXT NOT NULL, intent TEXT NOT NULL,
	outcome TEXT NOT NULL, account TEXT NOT NULL, version TEXT NOT NULL, changes TEXT NOT NULL,
	known TEXT NOT NULL, findings TEXT NOT NULL, cells TEXT NOT NULL,
	PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID;
CREATE INDEX entries_by_outcome ON entries (batch, outcome, row, intent); -- all that counting needs
CREATE TABLE steps (
	batch INTEGER NOT NULL, row INTEGER NOT NULL, n INTEGER NOT NULL, do TEXT NOT NULL, kind TEXT NOT NULL,
	thing TEXT NOT NULL, name TEXT NOT NULL, role TEXT NOT NULL, section TEXT NOT NULL, was TEXT,
	target INTEGER NOT NULL, made INTEGER NOT NULL, result TEXT NOT NULL,
	PRIMARY KEY (batch, row, n)) STRICT, WITHOUT ROWID;
CREATE TABLE secrets (batch INTEGER NOT NULL, row INTEGER NOT NULL, sealed TEXT NOT NULL, PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID;
CREATE TABLE outgoing (batch INTEGER NOT NULL, row INTEGER NOT NULL, name TEXT NOT NULL, about TEXT NOT NULL, PRIMARY KEY (batch, row, name)) STRICT, WITHOUT ROWID;
-- A claim is what says that requests are about to be sent, and an attempt a row of it.
CREATE TABLE claims (n INTEGER PRIMARY KEY, batch INTEGER NOT NULL, worker TEXT NOT NULL, sent TEXT NOT NULL, until TEXT NOT NULL) STRICT;
CREATE INDEX claims_by_worker ON claims (batch, worker);
CREATE TABLE attempts (batch INTEGER NOT NULL, row INTEGER NOT NULL, claim INTEGER NOT NULL, PRIMARY KEY (batch, row, claim)) STRICT, WITHOUT ROWID;
-- What became of an entry that was posted; claim is the last one it answers.
CREATE TABLE results (
	batch INTEGER NOT NULL, row INTEGER NOT NULL, claim INTEGER NOT NULL, outcome TEXT NOT NULL,
	account TEXT NOT NULL, version TEXT NOT NULL, findings TEXT NOT NULL, ended TEXT NOT NULL,
	did TEXT NOT NULL, part TEXT NOT NULL DEFAULT '', proof TEXT NOT NULL DEFAULT '', place TEXT NOT NULL DEFAULT '',
	PRIMARY KEY (batch, row)) STRICT, WITHOUT ROWID;
CREATE TABLE runs (id INTEGER PRIMARY KEY, about TEXT NOT NULL) STRICT;
CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
INSERT INTO meta (name, value) VALUES ('ledger', lower(hex(randomblob(16))));
CREATE TABLE workers (batch INTEGER NOT NULL, worker TEXT NOT NULL, who TEXT NOT NULL, began TEXT NOT NULL, until TEXT NOT NULL, PRIMARY KEY (batch, worker)) STRICT, WITHOUT ROWID;
CREATE TABLE parts (
	batch INTEGER NOT NULL, stage TEXT NOT NULL, low INTEGER NOT NULL, high INTEGER NOT NULL, n INTEGER NOT NULL,
	worker TEXT NOT NULL, ended INTEGER NOT NULL, PRIMARY KEY (batch, stage, low)) STRICT, WITHOUT ROWID;
CREATE TABLE history (
	batch INTEGER NOT NULL, chain TEXT NOT NULL, n INTEGER NOT NULL, at TEXT NOT NULL, what TEXT NOT NULL,
	body TEXT NOT NULL, hash TEXT NOT NULL, PRIMARY KEY (batch, chain, n)) STRICT, WITHOUT ROWID;
CREATE TABLE keys (batch INTEGER PRIMARY KEY, sealed TEXT NOT NULL) STRICT;
`

// migrate makes the tables, or brings them to the version that this program writes. A ledger
// that is of it already is only read, so that looking at one waits for nobody.
func (l *Ledger) migrate(ctx context.Context) error {
	has, err := versionOf(ctx, l)
	if err == nil && has != version {
		err = l.Write(ctx, func(tx tables.Tx) error {
			has, err = versionOf(ctx, tx) // another process may have been faster
			switch {
			case err != nil || has == version:
				return err
			case has == 0:
				_, err = tx.Exec(ctx, all)
			default:
				err = tables.Bring(ctx, tx, has)
			}
			if err == nil {
				_, err = tx.Exec(ctx, fmt.Sprintf("PRAGMA user_version = %d", version))
			}
			return err
		})
	}
	return err
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
