// Package sqlite is a store.Store in one SQLite file, for one machine.
//
// It keeps to every promise of the store: a commit waits for the disk, and the file is
// readable by its owner alone, as it holds people's data.
package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"modernc.org/sqlite" // also the driver
	sqlite3 "modernc.org/sqlite/lib"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// version of the tables, kept in SQLite's user_version.
const version = 5

const tables = `
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

// IsFull reports whether an error comes of a disk without room for the ledger.
func IsFull(err error) bool {
	var told *sqlite.Error
	if !errors.As(err, &told) {
		return false
	}
	switch told.Code() {
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR_WRITE, sqlite3.SQLITE_IOERR_SHMSIZE, sqlite3.SQLITE_IOERR_TRUNCATE, sqlite3.SQLITE_IOERR_FSYNC:
		return true
	}
	return false
}

// A Ledger is an open ledger. It may be used by several goroutines.
type Ledger struct {
	db      *sql.DB
	path    string
	writing sync.Mutex // SQLite lets one write at a time, and lets others sleep and try again
	others  *sql.Stmt
	attempt *sql.Stmt
	settle  *sql.Stmt
	step    *sql.Stmt
}

// Open opens the ledger at path and makes it if there is none.
func Open(ctx context.Context, path string) (*Ledger, error) {
	if err := private(path); err != nil {
		return nil, fmt.Errorf("the ledger %s: %w", path, err)
	}
	l, err := connect(path, "_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(ON)&_pragma=secure_delete(ON)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	if err := l.migrate(ctx); err != nil {
		return nil, errors.Join(l.told(err), l.db.Close())
	}
	for into, query := range map[**sql.Stmt]string{
		// In two, so that the claims of the worker itself, which may be very many, are not gone through.
		&l.others: `WITH others AS (
				SELECT n FROM claims WHERE batch = ?1 AND worker < ?2 AND until > ?3 UNION ALL
				SELECT n FROM claims WHERE batch = ?1 AND worker > ?2 AND until > ?3)
			SELECT a.row FROM others o JOIN attempts a ON a.batch = ?1 AND a.claim = o.n
			LEFT JOIN results r ON r.batch = a.batch AND r.row = a.row AND r.claim >= a.claim
			WHERE r.row IS NULL`,
		&l.attempt: "INSERT INTO attempts (batch, row, claim) SELECT ?1, value, ?2 FROM json_each(?3)",
		&l.settle: `INSERT INTO results (batch, row, claim, outcome, account, version, findings, ended, did) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (batch, row) DO UPDATE SET claim = max(claim, excluded.claim), outcome = excluded.outcome, account = excluded.account,
			version = excluded.version, findings = excluded.findings, ended = excluded.ended, did = excluded.did`,
		&l.step: "UPDATE steps SET result = ?, thing = ? WHERE batch = ? AND row = ? AND n = ?",
	} {
		if *into, err = l.db.PrepareContext(ctx, query); err != nil {
			break
		}
	}
	if err != nil {
		return nil, errors.Join(l.told(err), l.db.Close())
	}
	return l, nil
}

// OpenToRead opens a ledger that is there for reading alone: its file, or the folder that
// it is in, may be one that cannot be written to.
func OpenToRead(ctx context.Context, path string) (*Ledger, error) {
	if err := isPrivate(path); err != nil {
		return nil, fmt.Errorf("the ledger %s: %w", path, err)
	}
	var problems []error
	// Where nothing can be written beside it, nobody else writes to it either.
	for _, mode := range []string{"mode=ro", "mode=ro&immutable=1"} {
		l, err := connect(path, mode+"&_pragma=busy_timeout(10000)")
		if err != nil {
			return nil, err
		}
		has, err := l.version(ctx)
		if err == nil {
			_, err = l.db.ExecContext(ctx, "SELECT count(*) FROM sqlite_schema")
		}
		switch {
		case err == nil && has == version:
			return l, nil
		case err == nil:
			return nil, errors.Join(l.told(store.ErrOld), l.db.Close())
		}
		problems = append(problems, l.told(err), l.db.Close())
	}
	return nil, errors.Join(problems...)
}

func connect(path, options string) (*Ledger, error) {
	db, err := sql.Open("sqlite", "file:"+escape(path)+"?"+options)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(4)
	return &Ledger{db: db, path: path}, nil
}

// told says which ledger an error is about.
func (l *Ledger) told(err error) error { return fmt.Errorf("the ledger %s: %w", l.path, err) }

// private makes the file with rights for its owner alone; SQLite gives the files
// beside it the same.
func private(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(file.Close(), isPrivate(path))
}

// isPrivate refuses a ledger that others may read, as it holds people's data.
func isPrivate(path string) error {
	stat, err := os.Stat(path)
	if err == nil && runtime.GOOS != "windows" && stat.Mode().Perm()&0o077 != 0 {
		err = fmt.Errorf("may be read by others (mode %04o): run chmod 600 %s", stat.Mode().Perm(), path)
	}
	return err
}

func escape(path string) string {
	return strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
}

// migrate brings the tables to the version that this program writes. A ledger that is of
// it already is only read, so that looking at one waits for nobody.
func (l *Ledger) migrate(ctx context.Context) error {
	has, err := l.version(ctx)
	switch {
	case err != nil:
		return err
	case has > version:
		return fmt.Errorf("was written by a newer evenledger (tables of version %d; this one knows %d)", has, version)
	case has == version:
		return nil
	}
	return l.write(ctx, func(tx *sql.Tx) error {
		var has int // another process may have been faster
		if err := tx.QueryRowContext(ctx, "PRAGMA user_version").Scan(&has); err != nil || has >= version {
			return err
		}
		for _, step := range []func(context.Context, *sql.Tx) error{statements(tables), statements(steps), renameAbout, giveRows, statements(outward)}[has:] {
			if err := step(ctx, tx); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", version))
		return err
	})
}

func (l *Ledger) version(ctx context.Context) (has int, err error) {
	err = l.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&has)
	return has, err
}

func statements(text string) func(context.Context, *sql.Tx) error {
	return func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, text)
		return err
	}
}

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

// CutJournal takes what was deleted out of the journal as well. Readers that are at
// it are waited for, but not for long: the next to close the ledger cuts it too.
func (l *Ledger) CutJournal(ctx context.Context) error {
	_, err := l.db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

// write runs do in a transaction that is on disk when write returns. While another
// process is at the ledger, it waits.
func (l *Ledger) write(ctx context.Context, do func(*sql.Tx) error) error {
	l.writing.Lock()
	defer l.writing.Unlock()
	var tx *sql.Tx
	for since := time.Now(); ; {
		var err error
		if tx, err = l.db.BeginTx(ctx, nil); err == nil {
			break
		}
		if !IsBusy(err) || ctx.Err() != nil || time.Since(since) > longestBusy {
			return err
		}
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// longestBusy is how long another process that writes is waited for.
const longestBusy = 5 * time.Minute

// IsBusy reports whether an error comes of another process that writes to the ledger.
func IsBusy(err error) bool {
	var told *sqlite.Error
	return errors.As(err, &told) && told.Code()&0xff == sqlite3.SQLITE_BUSY
}

// IsDamaged reports whether an error comes of a ledger's file that is broken.
func IsDamaged(err error) bool {
	var told *sqlite.Error
	if !errors.As(err, &told) {
		return false
	}
	code := told.Code() & 0xff
	return code == sqlite3.SQLITE_CORRUPT || code == sqlite3.SQLITE_NOTADB
}

// Lock takes the work of that name ("draft", "post") for this process until
// unlock is called or the process ends. store.ErrBusy means that another has it.
func (l *Ledger) Lock(work string) (unlock func() error, err error) {
	file := flock.New(l.path+"."+work+".lock", flock.SetPermissions(0o600))
	got, err := file.TryLock()
	if err != nil {
		return nil, fmt.Errorf("the ledger cannot be locked: %w", err)
	}
	if !got {
		return nil, store.ErrBusy
	}
	return file.Unlock, nil
}

const stamp = time.RFC3339Nano

// moment is a time that sorts as text.
const moment = "2006-01-02T15:04:05.000000000Z"

// Sweep implements store.Drafts.
func (l *Ledger) Sweep(ctx context.Context) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"entries", "secrets", "steps", "outgoing"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE batch IN (SELECT id FROM batches WHERE state = ?)", batch.Drafting); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM batches WHERE state = ?", batch.Drafting)
		return err
	})
}

// Begin implements store.Drafts.
func (l *Ledger) Begin(ctx context.Context, b *batch.Batch) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx, "SELECT coalesce(max(id), 0) + 1 FROM batches").Scan(&b.ID); err != nil {
			return err
		}
		b.State = batch.Drafting
		about, err := writeAbout(b)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO batches (id, state, made, system, about) VALUES (?, ?, ?, ?, ?)", b.ID, b.State, b.Made.Format(stamp), b.System, about)
		return err
	})
}

// Save writes what is known of the batch as a whole.
func (l *Ledger) Save(ctx context.Context, b *batch.Batch) error {
	about, err := writeAbout(b)
	if err != nil {
		return err
	}
	return l.write(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE batches SET state = ?, posted = ?, rows = ?, about = ? WHERE id = ?", b.State, b.Posted.Format(stamp), b.Rows, about, b.ID)
		return err
	})
}

// Discard takes away a batch whose making failed.
func (l *Ledger) Discard(ctx context.Context, id int) error {
	return l.write(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"entries", "secrets", "steps", "outgoing"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE batch = ?", id); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM batches WHERE id = ? AND state = ?", id, batch.Drafting)
		return err
	})
}

// Batch returns one batch, or store.ErrNoBatch.
func (l *Ledger) Batch(ctx context.Context, id int) (*batch.Batch, error) {
	var about string
	err := l.db.QueryRowContext(ctx, "SELECT about FROM batches WHERE id = ? AND state != ?", id, batch.Drafting).Scan(&about)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, store.ErrNoBatch
	}
	if err != nil {
		return nil, err
	}
	b, err := readAbout(about)
	return &b, err
}

// Newest returns the number of the newest batch, or store.ErrNoBatch.
func (l *Ledger) Newest(ctx context.Context) (id int, err error) {
	err = l.db.QueryRowContext(ctx, "SELECT coalesce(max(id), 0) FROM batches WHERE state != ?", batch.Drafting).Scan(&id)
	if err == nil && id == 0 {
		err = store.ErrNoBatch
	}
	return id, err
}

// Batches returns every batch, newest first.
func (l *Ledger) Batches(ctx context.Context) ([]batch.Batch, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT about FROM batches WHERE state != ? ORDER BY id DESC", batch.Drafting)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []batch.Batch
	for rows.Next() {
		var about string
		if err := rows.Scan(&about); err != nil {
			return nil, err
		}
		b, err := readAbout(about)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, rows.Err()
}

// Closed implements store.Store.
func (l *Ledger) Closed(ctx context.Context, id int, field, value string) (n int, err error) {
	closed := strings.Trim(changesText([]account.Change{{Field: field, After: account.Of(value)}}), "[]")
	err = l.db.QueryRowContext(ctx, "SELECT count(*) FROM "+entriesNow+" WHERE e.batch = ? AND e.intent = ? AND coalesce(r.outcome, e.outcome) = ? AND coalesce(r.did, '') = '' AND instr(e.changes, ?) > 0", id, account.Create, account.Waiting, closed).Scan(&n)
	return n, err
}

// Counts returns how many rows of the batch came to each outcome, and for those
// waiting, what is intended with them.
func (l *Ledger) Counts(ctx context.Context, id int) (account.Counts, map[account.Intent]int, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT coalesce(r.outcome, e.outcome) AS came, CASE WHEN coalesce(r.did, '') = '' THEN e.intent ELSE ? END AS still, count(*) FROM "+entriesNow+" WHERE e.batch = ? GROUP BY came, still", account.Finish, id)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	counts, waiting := account.Counts{}, map[account.Intent]int{}
	for rows.Next() {
		var outcome account.Outcome
		var intent account.Intent
		var n int
		if err := rows.Scan(&outcome, &intent, &n); err != nil {
			return nil, nil, err
		}
		counts[outcome] += n
		if outcome == account.Waiting {
			waiting[intent] += n
		}
	}
	return counts, waiting, rows.Err()
}

// Changes stand in the tables as one flat list of texts, three for each (field,
// before, after), as lists of texts are read many times faster than objects. A
// value is marked with "=", and what is absent is "-"; "@" begins the two names of
// accounts that are referred to.
func changesText(changes []account.Change) string {
	flat := make([]string, 0, 3*len(changes))
	for _, c := range changes {
		before, after := mark(c.Before), mark(c.After)
		if c.Whole != "" { // JSON has no such separator in it
			before = "*" + c.Whole + "\x1f" + before
		}
		if c.Names != nil {
			after = "@" + nameless.Replace(c.Names[0]) + "\x1f" + nameless.Replace(c.Names[1]) + "\x1f" + after
		}
		flat = append(flat, c.Field, before, after)
	}
	return jsonText(flat)
}

// nameless takes out of a name what separates it from what follows.
var nameless = strings.NewReplacer("\x1f", " ")

func mark(v account.Value) string {
	if !v.Present() {
		return "-"
	}
	return "=" + v.Text()
}

func readChanges(text string) ([]account.Change, error) {
	flat, err := readTexts(text)
	if err != nil {
		return nil, err
	}
	if len(flat)%3 != 0 {
		return nil, errors.New("the ledger's list of changes is broken")
	}
	changes := make([]account.Change, 0, len(flat)/3)
	for i := 0; i < len(flat); i += 3 {
		c := account.Change{Field: flat[i]}
		before, after := flat[i+1], flat[i+2]
		if strings.HasPrefix(before, "*") {
			c.Whole, before, _ = strings.Cut(before[1:], "\x1f")
		}
		c.Before = unmark(before)
		if strings.HasPrefix(after, "@") {
			if parts := strings.SplitN(after[1:], "\x1f", 3); len(parts) == 3 {
				c.Names, after = &[2]string{parts[0], parts[1]}, parts[2]
			}
		}
		c.After = unmark(after)
		changes = append(changes, c)
	}
	return changes, nil
}

// readTexts reads a list of texts. Where nothing is escaped, each ends where it seems to.
func readTexts(text string) (texts []string, err error) {
	const start, between, end = `["`, `","`, `"]`
	if strings.HasPrefix(text, start) && strings.HasSuffix(text, end) && len(text) > len(start+end) && strings.IndexByte(text, '\\') < 0 {
		return strings.Split(text[len(start):len(text)-len(end)], between), nil
	}
	return texts, read(text, &texts)
}

func unmark(text string) account.Value {
	if text, ok := strings.CutPrefix(text, "="); ok {
		return account.Of(text)
	}
	return account.Value{}
}

func read(text string, into any) error {
	if text == "" || text == "[]" || text == "{}" || text == "null" {
		return nil
	}
	return json.Unmarshal([]byte(text), into)
}

// jsonText writes a value as it stands in the tables; nothing is "[]".
func jsonText(value any) string {
	data, err := json.Marshal(value)
	if err != nil || string(data) == "null" {
		return "[]"
	}
	return string(data)
}
