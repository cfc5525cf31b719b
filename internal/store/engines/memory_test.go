package engines_test

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/store/tables"
)

// The least of an engine: a database that is gone with its process, of which everything is asked one after the other. What a
// further engine has to say of itself stands here; the rest comes with tables, and the suite holds it to the same promises.
type memory struct {
	*tables.Ledger
	db    *sql.DB
	taken sync.Map // works, and workers who live
	one   sync.Mutex
}

func openMemory(t *testing.T) *memory {
	db, err := sql.Open("sqlite", "file:/"+strings.ReplaceAll(t.Name(), " ", "-")+"?vfs=memdb&_pragma=busy_timeout(60000)&_txlock=immediate")
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	db.SetMaxIdleConns(1) // with the last connection all is gone
	m := &memory{db: db}
	m.Ledger = &tables.Ledger{Engine: m}
	return m
}

func (m *memory) Write(ctx context.Context, do func(tables.Tx) error) error {
	m.one.Lock()
	defer m.one.Unlock()
	tx, err := m.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(within{tx}); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

func (m *memory) Note(ctx context.Context, do func(tables.Tx) error) error { return m.Write(ctx, do) }
func (m *memory) Read(ctx context.Context, do func(tables.Tx) error) error { return m.Write(ctx, do) }

func (m *memory) Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	return m.db.QueryContext(ctx, spoken(statement), args...)
}

func (m *memory) Lock(work string) (unlock func() error, err error) {
	if _, has := m.taken.LoadOrStore(work, true); has {
		return nil, store.ErrBusy
	}
	return func() error { m.taken.Delete(work); return nil }, nil
}

func (m *memory) Enter(worker string) (leave func() error, err error) {
	return m.Lock("worker " + worker)
}
func (m *memory) Gone(worker string) bool {
	_, lives := m.taken.Load("worker " + worker)
	return !lives
}
func (m *memory) Tidy(map[string]bool)    {}
func (m *memory) Lost(error) bool         { return false }
func (m *memory) Kept(text string) string { return text }

// What is done with a ledger as a whole.
func (m *memory) Upkeep() store.Upkeep { return m }
func (m *memory) Check(ctx context.Context) (store.Soundness, error) {
	return m.CheckBatches(ctx)
}
func (m *memory) Copy(ctx context.Context, path string) (int64, error) {
	return sqlite.CopyOf(ctx, m.Ledger, path)
}
func (m *memory) CutJournal(context.Context) error { return nil }
func (m *memory) Close() error                     { return nil }

// within is a transaction.
type within struct{ *sql.Tx }

func spoken(statement string) string {
	for _, list := range []string{"?", "?1", "?2", "?3", "?4", "?5"} {
		statement = strings.ReplaceAll(statement, "LISTED("+list+")", "SELECT value FROM json_each("+list+")")
	}
	return statement
}

func (w within) Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	return w.QueryContext(ctx, spoken(statement), args...)
}

func (w within) Exec(ctx context.Context, statement string, args ...any) (int64, error) {
	done, err := w.ExecContext(ctx, spoken(statement), args...)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

func (w within) Many(ctx context.Context, statement string, lists [][]any) error {
	for _, args := range lists {
		if _, err := w.Exec(ctx, statement, args...); err != nil {
			return err
		}
	}
	return nil
}

func (w within) Alone(context.Context, int) error { return nil } // everybody is
func (w within) Still(context.Context) error      { return nil }
func (w within) Lasting(context.Context) error    { return nil }
func (w within) Numbered(context.Context) error   { return nil }

func (w within) Now(context.Context) (time.Time, error) { return time.Now(), nil }

func TestMemory(t *testing.T) {
	try(t, func(t *testing.T) (opener, tamperer) {
		file, err := sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "tables.db"))
		require.NoError(t, err)
		m := openMemory(t)
		require.NoError(t, file.Read(t.Context(), func(tx tables.Tx) error {
			rows, err := tx.Query(t.Context(), "SELECT sql FROM sqlite_schema WHERE sql > ''")
			if err != nil {
				return err
			}
			for rows.Next() {
				var made string
				if err := rows.Scan(&made); err != nil {
					return err
				}
				if _, err := m.db.ExecContext(t.Context(), made); err != nil {
					return err
				}
			}
			return rows.Err()
		}))
		_, err = m.db.ExecContext(t.Context(), "INSERT INTO meta (name, value) VALUES ('ledger', lower(hex(randomblob(16))))")
		require.NoError(t, err)
		require.NoError(t, file.Close())
		return func(t *testing.T) store.Store { return m }, func(t *testing.T, statement string) {
			_, err := m.db.ExecContext(t.Context(), statement)
			require.NoError(t, err)
		}
	})
}
