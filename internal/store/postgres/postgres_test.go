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
	require.NoError(t, l.Begin(t.Context(), store.Worker{Name: "a", Who: "Ana", Term: time.Minute}, both...))

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
