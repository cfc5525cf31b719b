package postgres_test

import (
	"fmt"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/store/postgres"
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
