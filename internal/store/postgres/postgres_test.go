package postgres_test

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/store/postgres"
	"evenledger/internal/store/tables"
	"evenledger/internal/testserver"
)

// address is that of a ledger of its own on a server.
func address(t *testing.T, s testserver.Server, schema string) string {
	at := url.URL{Scheme: "postgres", User: url.UserPassword("ferries", s.Password(t)), Host: fmt.Sprintf("127.0.0.1:%d", s.Port), Path: "/postgres", RawQuery: "search_path=" + schema}
	return at.String()
}

// Programs that make the tables at the same moment make them once, and one of another age is told.
func TestVersions(t *testing.T) {
	server := testserver.Postgres(t)
	at := address(t, server, "fresh")
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			l, err := postgres.Open(t.Context(), at)
			if assert.NoError(t, err) {
				assert.NoError(t, l.Close())
			}
		})
	}
	all.Wait()
	conn, err := pgx.Connect(t.Context(), at)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), "UPDATE meta SET value = '7' WHERE name = 'version'")
	require.NoError(t, err)
	_, err = postgres.Open(t.Context(), at)
	require.ErrorContains(t, err, "has tables of version 7, which this evenledger cannot bring to")
	_, err = conn.Exec(t.Context(), "UPDATE meta SET value = '99' WHERE name = 'version'")
	require.NoError(t, err)
	_, err = postgres.Open(t.Context(), at)
	require.ErrorContains(t, err, "was written by a newer evenledger (tables of version 99")
	assert.NotContains(t, err.Error(), server.Password(t))

	for address, want := range map[string]string{
		strings.Replace(at, server.Password(t), "wrong", 1):                                     "password authentication failed",
		strings.Replace(at, "127.0.0.1", "ledger.brindlesound.example", 1) + "&sslmode=disable": "anybody in between could listen",
		strings.Replace(at, "=fresh", "=No-Schema", 1):                                          "is no name of a schema",
		strings.Replace(at, "/postgres", "/nowhere", 1):                                         "does not exist",
	} {
		_, err := postgres.Open(t.Context(), address)
		require.ErrorContains(t, err, want)
		assert.NotContains(t, err.Error(), server.Password(t))
	}
}

// Who stops in the middle of a transaction keeps others waiting for a while, and not for ever; and of
// two that wait for each other one is told to try again.
func TestLeftInTheMiddle(t *testing.T) {
	t.Parallel()
	l, err := postgres.Open(t.Context(), address(t, testserver.Postgres(t), "middle"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	both := []*batch.Batch{{}, {}}
	require.NoError(t, l.Begin(t.Context(), store.Worker{Name: "a", Who: "Ana", Lease: time.Minute}, both...))

	var all sync.WaitGroup
	var met sync.WaitGroup
	met.Add(2)
	lost := make(chan bool, 2)
	for i, b := range both {
		all.Go(func() {
			err := l.Write(t.Context(), func(tx tables.Tx) error {
				err := tx.Alone(t.Context(), b.ID)
				met.Done()
				met.Wait()
				return errors.Join(err, tx.Alone(t.Context(), both[1-i].ID))
			})
			lost <- l.Lost(err)
		})
	}
	all.Wait()
	assert.ElementsMatch(t, []bool{true, false}, []bool{<-lost, <-lost})

	begun, stopped := time.Now(), make(chan error)
	asleep, others := make(chan bool), make(chan bool)
	go func() {
		stopped <- l.Write(t.Context(), func(tx tables.Tx) error {
			err := tx.Alone(t.Context(), both[0].ID)
			close(asleep)
			<-others
			return errors.Join(err, tx.Alone(t.Context(), both[0].ID))
		})
	}()
	<-asleep
	require.NoError(t, l.Write(t.Context(), func(tx tables.Tx) error { return tx.Alone(t.Context(), both[0].ID) }))
	assert.Greater(t, time.Since(begun), 5*time.Second, "who is asleep has his time")
	close(others)
	err = <-stopped
	assert.True(t, l.Lost(err))
	assert.True(t, postgres.IsAway(err), err)
	assert.ErrorContains(t, err, "what it was writing was undone")
}

// A server that chooses its way to what is asked for while the tables are empty reads each entry and its result a few times, however
// many there are: nothing grows with the square of a batch.
func TestReadsByKeys(t *testing.T) {
	t.Parallel()
	at := address(t, testserver.Postgres(t), "keys")
	l, err := postgres.Open(t.Context(), at)
	require.NoError(t, err)
	const rows, part, block = 8000, 2000, 200
	ctx, w := t.Context(), store.Worker{Name: "a", Who: "Ana", Lease: time.Minute}
	b := &batch.Batch{Draft: batch.Draft{System: "crewdesk", Rows: rows}}
	require.NoError(t, l.Begin(ctx, w, b))
	entries := make([]batch.Entry, rows)
	for i := range entries {
		entries[i] = batch.Entry{Row: i + 2, Intent: account.Create, Outcome: account.Waiting, Cells: []string{"x"}}
	}
	require.NoError(t, l.Add(ctx, b.ID, entries))
	require.NoError(t, l.Seal(ctx, b))
	b.State = batch.Drafted
	require.NoError(t, l.Save(ctx, b))
	stage, done := store.Stage{Name: "accounts"}, 0
	for {
		part, turn, err := l.Take(ctx, b.ID, w, stage, part)
		require.NoError(t, err)
		if turn != store.Got {
			break
		}
		open, err := l.InFlight(ctx, b.ID, part)
		require.NoError(t, err)
		assert.Empty(t, open)
		for after := part.Low - 1; ; {
			var page []batch.Entry
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true, After: after, Upto: part.High, Limit: block}) {
				require.NoError(t, err)
				page = append(page, e)
			}
			if len(page) == 0 {
				break
			}
			claim, err := l.Claim(ctx, b.ID, w, page, time.Now())
			require.NoError(t, err)
			var results []store.Result
			var of []int
			for _, e := range page {
				e.Outcome, e.Did, e.Account, after = account.Created, account.Created, fmt.Sprint("id", e.Row), e.Row
				results, of = append(results, store.Result{Entry: e, Claim: claim}), append(of, e.Row)
			}
			require.NoError(t, l.Settle(ctx, b.ID, w, results, time.Now()))
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Unproven: true, Rows: of}) {
				require.NoError(t, err)
				assert.Equal(t, of[0], e.Row)
				of = of[1:]
				done++
			}
			require.Empty(t, of)
		}
		require.NoError(t, l.End(ctx, b.ID, w, part))
	}
	require.Equal(t, rows, done)
	require.NoError(t, l.Close()) // it tells what it read
	conn, err := pgx.Connect(ctx, at)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for table, most := range map[string]int{"entries": 8, "results": 4} {
		var read int
		require.NoError(t, conn.QueryRow(ctx, "SELECT seq_tup_read + coalesce(idx_tup_fetch, 0) FROM pg_stat_user_tables WHERE schemaname = 'keys' AND relname = $1", table).Scan(&read))
		assert.Less(t, read, most*rows, table)
		assert.GreaterOrEqual(t, read, rows, "the server counts")
	}
}
