// Package sqlite is a store.Store in one SQLite file, for one machine.
//
// It keeps to every promise of the store: a commit waits for the disk, and the file is
// readable by its owner alone, as it holds people's data.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"modernc.org/sqlite" // also the driver
	sqlite3 "modernc.org/sqlite/lib"

	"evenledger/internal/store"
	"evenledger/internal/store/tables"
)

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
	*tables.Ledger

	db       *sql.DB
	noting   *sql.DB // commits there do not wait for the disk; nil: the ledger is only read
	path     string
	writing  sync.Mutex // SQLite lets one write at a time, and lets others sleep and try again
	prepared sync.Map   // prepared → its *sql.Stmt
}

// Open opens the ledger at path and makes it if there is none.
func Open(ctx context.Context, path string) (*Ledger, error) {
	err := private(path)
	if err == nil {
		err = paged(ctx, path)
	}
	if err != nil {
		return nil, fmt.Errorf("the ledger %s: %w", path, err)
	}
	const options = "_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(ON)&_pragma=secure_delete(ON)&_txlock=immediate&_pragma=synchronous"
	l, err := connect(path, options+"(FULL)")
	if err != nil {
		return nil, err
	}
	if err := l.migrate(ctx); err != nil {
		return nil, errors.Join(l.told(err), l.db.Close())
	}
	if l.noting, err = sql.Open("sqlite", "file:"+escape(path)+"?"+options+"(NORMAL)"); err != nil {
		return nil, errors.Join(l.told(err), l.db.Close())
	}
	l.noting.SetMaxOpenConns(2) // one writes, and one gets statements ready
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
		has, err := versionOf(ctx, l)
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
	l := &Ledger{db: db, path: path}
	l.Ledger = &tables.Ledger{Engine: l}
	return l, nil
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

// pageSize of a new file, in bytes: what is beyond a quarter of a page takes a page of its own, and a row of a wide sheet has two
// thousand bytes.
const pageSize = 8192

// paged gives a new file its page size, which is what it is once anything stands in it.
func paged(ctx context.Context, path string) error {
	if stat, err := os.Stat(path); err != nil || stat.Size() > 0 {
		return err
	}
	// The library sets the mode of the journal before the size of pages, and then it is too late.
	db, err := sql.Open("sqlite", fmt.Sprintf("file:%s?_pragma=busy_timeout(10000)&_pragma=page_size(%d)", escape(path), pageSize))
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "PRAGMA journal_mode = WAL")
	return errors.Join(err, db.Close())
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

// Close closes the ledger.
func (l *Ledger) Close() error {
	if l.noting != nil {
		return errors.Join(l.noting.Close(), l.db.Close())
	}
	return l.db.Close()
}

// CutJournal takes what was deleted out of the journal as well. Readers that are at
// it are waited for, but not for long: the next to close the ledger cuts it too.
func (l *Ledger) CutJournal(ctx context.Context) error {
	_, err := l.db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

// Write implements tables.Engine. While another process is at the ledger, it waits.
func (l *Ledger) Write(ctx context.Context, do func(tables.Tx) error) error {
	return l.write(ctx, l.db, do)
}

// Note implements tables.Engine.
func (l *Ledger) Note(ctx context.Context, do func(tables.Tx) error) error {
	return l.write(ctx, l.noting, do)
}

func (l *Ledger) write(ctx context.Context, db *sql.DB, do func(tables.Tx) error) error {
	l.writing.Lock()
	defer l.writing.Unlock()
	var tx *sql.Tx
	for since := time.Now(); ; {
		var err error
		if tx, err = db.BeginTx(ctx, nil); err == nil {
			break
		}
		if !IsBusy(err) || ctx.Err() != nil || time.Since(since) > longestBusy {
			return err
		}
	}
	if err := do(&transaction{Tx: tx, ledger: l, db: db}); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// Read implements tables.Engine.
func (l *Ledger) Read(ctx context.Context, do func(tables.Tx) error) error {
	tx, err := l.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	err = do(&transaction{Tx: tx, ledger: l})
	if ended := tx.Rollback(); !errors.Is(ended, sql.ErrTxDone) { // as it is once ctx is done
		err = errors.Join(err, ended)
	}
	return err
}

// Query implements tables.Engine.
func (l *Ledger) Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	return l.db.QueryContext(ctx, form(statement), args...)
}

// Enter implements tables.Engine by a lock that the operating system takes from the dead.
func (l *Ledger) Enter(worker string) (leave func() error, err error) {
	unlock, err := l.Lock("worker-" + worker)
	if err != nil {
		return nil, err
	}
	return func() error {
		err := errors.Join(unlock(), os.Remove(l.lockPath("worker-"+worker)))
		if errors.Is(err, fs.ErrNotExist) {
			return nil // another tidied up
		}
		return err
	}, nil
}

// Gone implements tables.Engine.
func (l *Ledger) Gone(worker string) bool {
	leave, err := l.Enter(worker)
	return err == nil && leave() == nil
}

// Tidy implements tables.Engine: who was killed as it entered left its lock.
func (l *Ledger) Tidy(known map[string]bool) {
	files, _ := os.ReadDir(filepath.Dir(l.path)) // none can be listed: then it stays
	before, after, _ := strings.Cut(filepath.Base(l.lockPath("worker-*")), "*")
	for _, file := range files {
		name, is := strings.CutPrefix(file.Name(), before)
		if name = strings.TrimSuffix(name, after); is && !known[name] {
			l.Gone(name) // which takes it away, unless its holder is about to
		}
	}
}

// Lost implements tables.Engine: a file is not lost.
func (l *Ledger) Lost(error) bool { return false }

// form puts a statement into SQLite's own form.
func form(statement string) string {
	return listed.ReplaceAllString(statement, "SELECT value FROM json_each($1)")
}

var listed = regexp.MustCompile(`LISTED\((\?\d*)\)`)

// A transaction is a tables.Tx.
type transaction struct {
	*sql.Tx
	ledger *Ledger
	db     *sql.DB // that statements are kept ready for; nil: for reading none is
}

// prepared is what a statement is prepared for.
type prepared struct {
	db        *sql.DB
	statement string
}

func (t *transaction) Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	if t.db == nil {
		return t.QueryContext(ctx, form(statement), args...)
	}
	ready, err := t.ready(ctx, statement)
	if err != nil {
		return nil, err
	}
	return ready.QueryContext(ctx, args...)
}

func (t *transaction) Exec(ctx context.Context, statement string, args ...any) (changed int64, err error) {
	if strings.Contains(statement, ";") { // several
		_, err := t.ExecContext(ctx, statement, args...)
		return 0, err
	}
	ready, err := t.ready(ctx, statement)
	if err != nil {
		return 0, err
	}
	done, err := ready.ExecContext(ctx, args...)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// ready prepares a statement once for as long as the ledger is open. That takes another connection,
// which is there as only one writes at a time; many who read would wait for each other's.
func (t *transaction) ready(ctx context.Context, statement string) (*sql.Stmt, error) {
	key := prepared{t.db, statement}
	kept, has := t.ledger.prepared.Load(key)
	if !has {
		made, err := t.db.PrepareContext(ctx, form(statement))
		if err != nil { // its table may be of this very transaction
			return t.PrepareContext(ctx, form(statement))
		}
		kept, _ = t.ledger.prepared.LoadOrStore(key, made)
	}
	return t.StmtContext(ctx, kept.(*sql.Stmt)), nil
}

// Alone implements tables.Tx: SQLite lets one write at a time.
func (t *transaction) Alone(context.Context, int) error { return nil }

// Still implements tables.Tx.
func (t *transaction) Still(context.Context) error { return nil }

// Lasting implements tables.Tx: SQLite has no time for it.
func (t *transaction) Lasting(context.Context) error { return nil }

// Numbered implements tables.Tx: SQLite looks at what is there.
func (t *transaction) Numbered(context.Context) error { return nil }

// Now implements tables.Tx: all who use the file share a machine.
func (t *transaction) Now(context.Context) (time.Time, error) { return time.Now(), nil }

func (t *transaction) Many(ctx context.Context, statement string, lists [][]any) error {
	if len(lists) == 0 {
		return nil
	}
	ready, err := t.ready(ctx, statement)
	if err != nil {
		return err
	}
	// A statement that can be interrupted has a goroutine of its own in the library; these are over at once.
	running := context.WithoutCancel(ctx)
	for _, args := range lists {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if _, err := ready.ExecContext(running, args...); err != nil {
			return err
		}
	}
	return nil
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

// Lock implements store.Store.
func (l *Ledger) Lock(work string) (unlock func() error, err error) {
	file := flock.New(l.lockPath(work), flock.SetPermissions(0o600))
	got, err := file.TryLock()
	if err != nil {
		return nil, fmt.Errorf("the ledger cannot be locked: %w", err)
	}
	if !got {
		return nil, store.ErrBusy
	}
	return file.Unlock, nil
}

func (l *Ledger) lockPath(work string) string { return l.path + "." + work + ".lock" }

// Kept implements tables.Engine: a text is kept as it is.
func (l *Ledger) Kept(text string) string { return text }
