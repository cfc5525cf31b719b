package posting_test

import (
	"context"
	"iter"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
	"evenledger/internal/posting"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// overheard is a ledger that says what it is asked, and may keep a worker waiting.
type overheard struct {
	store.Store
	mu     sync.Mutex
	parts  []string
	settle func([]store.Result) // before results are noted; may be nil
	renew  func()
}

func (l *overheard) part(what string, part store.Part) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.parts = append(l.parts, what+" "+part.Stage)
}

func (l *overheard) Lease(id int, worker store.Worker) store.Lease {
	return &overheardLease{l.Store.Lease(id, worker), l}
}

type overheardLease struct {
	store.Lease
	l *overheard
}

func (l *overheardLease) End(ctx context.Context, part store.Part) error {
	l.l.part("end", part)
	return l.Lease.End(ctx, part)
}

func (l *overheardLease) Return(ctx context.Context, part store.Part) error {
	l.l.part("return", part)
	return l.Lease.Return(ctx, part)
}

func (l *overheardLease) Settle(ctx context.Context, results []store.Result, now time.Time) error {
	if l.l.settle != nil {
		l.l.settle(results)
	}
	return l.Lease.Settle(ctx, results, now)
}

func (l *overheardLease) Renew(ctx context.Context) (store.Share, error) {
	if l.l.renew != nil {
		l.l.renew()
	}
	return l.Lease.Renew(ctx)
}

const ringing = "follow_ups:\n  berth: {on: created, feed: rota, statement: \"insert into berths values (:employeeNumber)\"}\n"

// What goes out is noted as on its way before it does, and is not begun by who was not heard of for
// too long in between.
func TestNothingGoesOutUnnoted(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.begin = []batch.Whole{{Feed: "rota", Order: feed.Order{Statement: "lock"}}}
	b := w.draft(crew+ringing, columns+"7,Tom,Kaya,,,Mate,Deck\n")
	var done []string
	do := func(ctx context.Context, _ string, order feed.Order) error {
		done = append(done, order.Statement)
		if order.Statement == "lock" {
			now, err := w.ledger.Batch(ctx, b.ID)
			require.NoError(t, err)
			assert.Equal(t, membership.Sending, now.Begun.Of(0))
			return nil
		}
		for e, err := range w.ledger.Entries(ctx, b.ID, store.Filter{Does: membership.Follow}) {
			require.NoError(t, err)
			i := slices.IndexFunc(e.Steps, func(s membership.Step) bool { return s.Do == membership.Follow })
			assert.Equal(t, membership.Sending, e.Steps[i].Result)
		}
		return nil
	}
	p := w.poster(b, nil, false)
	p.Do = do
	require.NoError(t, p.Run(t.Context()))
	require.Len(t, done, 2)

	b = w.draft(crew+ringing, columns+"8,Ana,Reyes,,,Mate,Deck\n")
	done = nil
	asleep := make(chan struct{})
	slow := &overheard{Store: w.ledger}
	slow.settle = func(results []store.Result) {
		if slices.ContainsFunc(results[0].Entry.Steps, func(s membership.Step) bool {
			return s.Do == membership.Follow && s.Result == membership.Sending
		}) {
			close(asleep)
			time.Sleep(3600 * time.Millisecond)
		}
	}
	slow.renew = func() {
		select {
		case <-asleep:
			time.Sleep(4 * time.Second)
		default:
		}
	}
	p = w.poster(b, nil, false)
	p.Ledger, p.Do = slow, do
	p.Worker.Term = 4 * time.Second
	require.ErrorIs(t, p.Run(t.Context()), store.ErrFenced)
	assert.Equal(t, []string{"lock"}, done, "the note came too late for anything to be begun")
}

// A part that was stopped is given back, and not said to be done.
func TestStoppedPartsAreGivenBack(t *testing.T) {
	t.Parallel()
	for at, part := range map[string]string{"create": "accounts", "read back": "proof"} {
		w := newWorld(t)
		b := w.draft(crew, columns+"7,Tom,Kaya,,,Mate,Deck\n8,Ana,Reyes,,,Mate,Deck\n")
		ctx, stop := context.WithCancel(t.Context())
		ledger := &overheard{Store: w.ledger}
		p := &posting.Post{Ledger: ledger, Worker: worker(), System: &stopping{w.system, at, stop}, Batch: b, Together: 1, Settle: time.Millisecond, Clock: w.clock}
		_ = p.Run(ctx)
		assert.Contains(t, ledger.parts, "return "+part)
		assert.NotContains(t, ledger.parts, "end "+part)
	}
}

// stopping has a person stop the post when it does something.
type stopping struct {
	system.System
	at   string
	stop func()
}

func (s *stopping) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if s.at == "create" {
		s.stop()
	}
	return s.System.Apply(ctx, may, orders, fields)
}

func (s *stopping) Changes() bool { return s.System.(interface{ Changes() int }).Changes() > 0 }

func (s *stopping) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	if s.Changes() {
		s.stop()
	}
	return s.System.Find(ctx, field, values, fields)
}

func (s *stopping) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	if s.Changes() {
		s.stop()
	}
	return s.System.List(ctx, fields)
}
