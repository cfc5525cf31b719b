package postgres_test

import (
	"fmt"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"evenledger/internal/store"
	"evenledger/internal/store/postgres"
	"evenledger/internal/store/storetest"
	"evenledger/internal/testserver"
)

// address is that of a ledger of its own on a server.
func address(t *testing.T, s testserver.Server, schema string) string {
	at := url.URL{Scheme: "postgres", User: url.UserPassword("ferries", s.Password(t)), Host: fmt.Sprintf("127.0.0.1:%d", s.Port), Path: "/postgres", RawQuery: "search_path=" + schema}
	return at.String()
}

func open(t *testing.T, at string) store.Store {
	l, err := postgres.Open(t.Context(), at)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

func TestStore(t *testing.T) {
	server := testserver.Postgres(t)
	var n atomic.Int32
	storetest.Run(t, func(t *testing.T) (storetest.Open, storetest.Tamper) {
		at := address(t, server, fmt.Sprint("ledger", n.Add(1)))
		return func(t *testing.T) store.Store { return open(t, at) }, func(t *testing.T, statement string) {
			conn, err := pgx.Connect(t.Context(), at)
			require.NoError(t, err)
			_, err = conn.Exec(t.Context(), statement)
			require.NoError(t, err)
			require.NoError(t, conn.Close(t.Context()))
		}
	})
}
