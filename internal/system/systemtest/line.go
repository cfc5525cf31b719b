package systemtest

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/system"
	"evenledger/internal/testserver"
)

// A Line stands between a client and its server, and may lose an answer.
type Line struct {
	net.Listener
	network, address string // of the server

	// Changes reports whether what is asked for would change something; nil: all of it may.
	Changes func(asked []byte) bool

	open   atomic.Int32 // connections
	mu     sync.Mutex
	losing time.Duration // how long the server is let work before the connection is cut; 0: nothing is lost
	first  func()        // what is done before the next answer to a change is passed on; nil: nothing
}

// NewLine begins a line to a server; its own address is of the same network, and at for a socket of
// this machine.
func NewLine(t *testing.T, network, address, at string) *Line {
	listener, err := net.Listen(network, at)
	require.NoError(t, err)
	l := &Line{Listener: listener, network: network, address: address}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			l.open.Add(1)
			go l.carry(client)
		}
	}()
	return l
}

// Lose has the next answer be lost: what is asked for is carried out, and the connection is cut after a
// while without a word.
func (l *Line) Lose(after time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.losing = after
}

// First has something be done before the next answer to a change is passed on.
func (l *Line) First(do func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.first = do
}

func (l *Line) carry(client net.Conn) {
	defer l.open.Add(-1)
	defer client.Close()
	server, err := net.Dial(l.network, l.address)
	if err != nil {
		return
	}
	defer server.Close()
	var changes atomic.Bool
	go func() {
		defer server.Close()
		data := make([]byte, 32<<10)
		for {
			n, err := client.Read(data)
			changes.Store(l.Changes == nil || l.Changes(data[:n]))
			if _, broken := server.Write(data[:n]); err != nil || broken != nil {
				return
			}
		}
	}()
	data := make([]byte, 32<<10)
	for {
		n, err := server.Read(data)
		l.mu.Lock()
		wait, first := time.Duration(0), func() {}
		if changes.Load() {
			wait, l.losing = l.losing, 0
			if l.first != nil {
				first, l.first = l.first, nil
			}
		}
		l.mu.Unlock()
		first()
		if wait > 0 {
			go func() { _, _ = io.Copy(io.Discard, server) }() // it is let come to its end
			time.Sleep(wait)
			return
		}
		if n > 0 {
			if _, err := client.Write(data[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// Lossy is a system that is reached over a line.
type Lossy struct {
	system.System
	Line  *Line
	Work  time.Duration // how long the server works at most on one change
	Looks bool          // a change reads the account before it is sent
}

// Close closes the system.
func (l Lossy) Close() error { return system.Close(l.System) }

// closes gives back what it holds of the server's.
func (x suite) closes(t *testing.T, s system.System, _ *system.Description) {
	over, is := s.(Lossy)
	if !is {
		t.Skip("it holds nothing of a server's")
	}
	x.create(t, s, x.person("ana", "Ana", ""))
	require.Positive(t, over.Line.open.Load())
	require.NoError(t, system.Close(s))
	testserver.Soon(t, func() bool { return over.Line.open.Load() == 0 })
}

// loses has the answers to changes be lost: each is told as unclear, and was carried out once.
func (x suite) loses(t *testing.T, s system.System, about *system.Description) {
	over, is := s.(Lossy)
	if !is {
		t.Skip("there is no way on which anything could be lost")
	}
	made := x.create(t, s, x.person("ana", "Ana", ""))
	var unclear *system.Unclear
	over.Line.Lose(over.Work)
	_, err := Create(t.Context(), nil, s, x.person("tom", "Tom", ""), x.asked)
	require.ErrorAs(t, err, &unclear)
	names := map[string]int{}
	for a, err := range s.List(t.Context(), x.asked) {
		require.NoError(t, err)
		names[a.Field("userName").Text()]++
	}
	assert.Equal(t, map[string]int{"ana": 1, "tom": 1}, names)
	over.Line.Lose(over.Work)
	_, err = system.Change(t.Context(), nil, s, made, []account.Change{{Field: x.Other, After: account.Of(x.Values[0])}}, x.asked)
	if !over.Looks || err != nil { // what was lost may have been what it read, which it read again
		require.ErrorAs(t, err, &unclear)
	}
	now, err := s.Get(t.Context(), made.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, x.Values[0], now.Field(x.Other).Text())
	if !about.Can.Removes {
		return
	}
	over.Line.Lose(over.Work)
	if err := Remove(t.Context(), nil, s, now); !errors.Is(err, system.ErrGone) { // it may have looked, and seen that nobody is there
		require.ErrorAs(t, err, &unclear)
	}
	_, err = s.Get(t.Context(), made.ID, x.asked)
	require.ErrorIs(t, err, system.ErrGone)
}

// letsEnd has a person stop while the answer to a change is on its way: what was sent is let to end, and the answer taken.
func (x suite) letsEnd(t *testing.T, s system.System, _ *system.Description) {
	over, is := s.(Lossy)
	if !is || over.Looks {
		t.Skip("there is no way to see when a change is on its way")
	}
	made := x.create(t, s, x.person("ana", "Ana", ""))
	ctx, stop := context.WithCancel(t.Context())
	over.Line.First(func() {
		stop()
		time.Sleep(over.Work)
	})
	_, err := system.Change(ctx, nil, s, made, []account.Change{{Field: x.Other, After: account.Of(x.Values[0])}}, x.asked)
	var unclear *system.Unclear
	if err != nil { // where it has to be looked at what it came to, that is left to the next
		require.ErrorAs(t, err, &unclear)
	}
	require.Error(t, ctx.Err())
	now, err := s.Get(t.Context(), made.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, x.Values[0], now.Field(x.Other).Text())
}
