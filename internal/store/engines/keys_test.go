package engines_test

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/store/tables"
	"evenledger/internal/testserver"
)

// carriedOut drafts a batch of so many rows and carries it out, part by part and block by block, as the rooms above do.
func carriedOut(t *testing.T, l store.Store, rows int) {
	const part, block = 2000, 200
	ctx, w := t.Context(), store.Worker{Name: "a", Who: "Ana", Term: time.Minute}
	b := &batch.Batch{Draft: batch.Draft{System: "crewdesk", Source: batch.Source{Rows: rows}}}
	require.NoError(t, l.Begin(ctx, w, b))
	entries := make([]batch.Entry, rows)
	for i := range entries {
		entries[i] = batch.Entry{Row: i + 2, Intent: account.Create, Outcome: account.Waiting, Cells: []string{"x"}}
	}
	entries[0].Steps = []membership.Step{{Do: membership.Join, Kind: "groups", Thing: "g1"}}
	require.NoError(t, l.Drafting(b.ID).Add(ctx, entries))
	require.NoError(t, l.Drafting(b.ID).Decide(ctx, entries[:1]))
	require.NoError(t, l.Drafting(b.ID).Seal(ctx, b))
	b.State = batch.Drafted
	require.NoError(t, l.Save(ctx, b))
	done := 0
	for {
		part, turn, err := l.Lease(b.ID, w).Take(ctx, store.Stage{Name: "accounts"}, part)
		require.NoError(t, err)
		if turn != store.Got {
			break
		}
		open, err := l.InFlight(ctx, b.ID, part)
		require.NoError(t, err)
		assert.Empty(t, open)
		for after := part.Low - 1; ; {
			var page []batch.Entry
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true, Secrets: true, After: after, Upto: part.High, Limit: block}) {
				require.NoError(t, err)
				page = append(page, e)
			}
			if len(page) == 0 {
				break
			}
			claim, err := l.Lease(b.ID, w).Claim(ctx, page, time.Now())
			require.NoError(t, err)
			var results []store.Result
			var of []int
			for _, e := range page {
				e.Outcome, e.Did, e.Account, after = account.Created, account.Created, fmt.Sprint("id", e.Row), e.Row
				results, of = append(results, store.Result{Entry: e, Claim: claim}), append(of, e.Row)
			}
			require.NoError(t, l.Lease(b.ID, w).Settle(ctx, results, time.Now()))
			require.NoError(t, l.Lease(b.ID, w).Prove(ctx, batch.Shown, of[1:]))
			left := of
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Unproven: true, Rows: of}) {
				require.NoError(t, err)
				assert.Equal(t, left[0], e.Row)
				left = left[1:]
				done++
			}
			require.Empty(t, left)
			_, _, err = l.Accounts(ctx, b.ID, of[:1])
			require.NoError(t, err)
		}
		require.NoError(t, l.Lease(b.ID, w).End(ctx, part))
	}
	require.Equal(t, rows, done)
	require.NoError(t, l.Close())
}

// A server in PostgreSQL that chooses its way to what is asked for while the tables are empty reads each entry and its result a few
// times, however many there are: nothing grows with the square of a batch.
func TestPostgresReadsByKeys(t *testing.T) {
	t.Parallel()
	const rows = 8000
	at := address(t, testserver.Postgres(t), "keys")
	carriedOut(t, open(t, at), rows) // closed, it has told what it read
	conn, err := pgx.Connect(t.Context(), at)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	for table, most := range map[string]int{"entries": 8, "results": 6} {
		var read int
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT seq_tup_read + coalesce(idx_tup_fetch, 0) FROM pg_stat_user_tables WHERE schemaname = 'keys' AND relname = $1", table).Scan(&read))
		assert.Less(t, read, most*rows, table)
		assert.GreaterOrEqual(t, read, rows, "the server counts")
	}
}

// watched is an engine that tells the statements it is asked.
type watched struct {
	tables.Engine
	told func(statement string)
}

func (w *watched) Write(ctx context.Context, do func(tables.Tx) error) error {
	return w.Engine.Write(ctx, func(tx tables.Tx) error { return do(&watchedTx{tx, w.told}) })
}

func (w *watched) Note(ctx context.Context, do func(tables.Tx) error) error {
	return w.Engine.Note(ctx, func(tx tables.Tx) error { return do(&watchedTx{tx, w.told}) })
}

func (w *watched) Read(ctx context.Context, do func(tables.Tx) error) error {
	return w.Engine.Read(ctx, func(tx tables.Tx) error { return do(&watchedTx{tx, w.told}) })
}

func (w *watched) Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	w.told(statement)
	return w.Engine.Query(ctx, statement, args...)
}

type watchedTx struct {
	tables.Tx
	told func(statement string)
}

func (w *watchedTx) Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	w.told(statement)
	return w.Tx.Query(ctx, statement, args...)
}

func (w *watchedTx) Exec(ctx context.Context, statement string, args ...any) (int64, error) {
	w.told(statement)
	return w.Tx.Exec(ctx, statement, args...)
}

func (w *watchedTx) Many(ctx context.Context, statement string, lists [][]any) error {
	w.told(statement)
	return w.Tx.Many(ctx, statement, lists)
}

// SQLite goes through no table of entries, results or claims, nor through all that it has of a batch, for anything that is asked
// while one is carried out.
func TestSQLiteReadsByKeys(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "l.db")
	l, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	var statements sync.Map
	l.Engine = &watched{l.Engine, func(statement string) { statements.Store(statement, true) }}
	carriedOut(t, l, 3000)
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	listed, argument := regexp.MustCompile(`LISTED\((\?\d*)\)`), regexp.MustCompile(`\?\d*`)
	through := regexp.MustCompile(`^(SCAN|SEARCH) (e|r|a|c|s|o|entries|results|attempts|claims|steps|secrets|outgoing)\b( USING .*\(batch=\?\))?( LEFT-JOIN)?$`)
	seen := 0
	statements.Range(func(statement, _ any) bool {
		text := argument.ReplaceAllString(listed.ReplaceAllString(statement.(string), "SELECT value FROM json_each('[1]')"), "1")
		rows, err := db.Query("EXPLAIN QUERY PLAN " + text)
		require.NoError(t, err, text)
		defer rows.Close()
		for rows.Next() {
			var id, parent, unused int
			var detail string
			require.NoError(t, rows.Scan(&id, &parent, &unused, &detail))
			assert.NotRegexp(t, through, detail, text)
			seen++
		}
		return true
	})
	assert.Greater(t, seen, 20)
}
