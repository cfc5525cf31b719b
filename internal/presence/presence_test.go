package presence_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/pace"
	"evenledger/internal/presence"
	"evenledger/internal/store"
)

// A crew is a lease as far as a worker's place goes. What it says next is set by the test.
type crew struct {
	store.Lease
	mu      sync.Mutex
	says    error
	share   store.Share
	renewed int
	left    int
}

func (c *crew) Join(context.Context) (store.Share, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.share, c.says
}

func (c *crew) Renew(context.Context) (store.Share, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.renewed++
	return c.share, c.says
}

func (c *crew) Leave(context.Context) (bool, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.left++
	return true, nil
}

func (c *crew) set(says error, share store.Share) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.says, c.share = says, share
}

const term = time.Second

// While the ledger hears of it a worker may send, for as long as it likes; how many share the
// system is heard of on the way.
func TestAlive(t *testing.T) { synctest.Test(t, alive) }

func alive(t *testing.T) {
	ledger := &crew{share: store.Share{Of: 1}}
	crowd := &pace.Crowd{}
	last, err := presence.Join(t.Context(), ledger, term, crowd, func(ctx context.Context, at *presence.Presence) error {
		ledger.set(nil, store.Share{Of: 3, Rank: 1})
		for range 15 {
			time.Sleep(term / 10)
			require.NoError(t, at.May())
		}
		assert.Equal(t, 3, at.Crew().Of)
		return ctx.Err()
	})
	require.NoError(t, err)
	assert.True(t, last)
	assert.Equal(t, 1, ledger.left)
	assert.GreaterOrEqual(t, ledger.renewed, 5)
}

// A worker that the ledger gave up, or that cannot reach it, may send nothing well before its
// lease is over for others, and is told why.
func TestFenced(t *testing.T) {
	away := errors.New("no way there")
	for _, c := range []struct {
		says error
		from time.Duration // after which it is over, at the latest
	}{{store.ErrFenced, term / 4}, {away, term}} {
		synctest.Test(t, func(t *testing.T) {
			ledger := &crew{}
			_, err := presence.Join(t.Context(), ledger, term, nil, func(ctx context.Context, at *presence.Presence) error {
				begun := time.Now()
				ledger.set(c.says, store.Share{})
				<-ctx.Done()
				assert.Less(t, time.Since(begun), c.from+term/4)
				require.ErrorIs(t, context.Cause(ctx), c.says)
				if errors.Is(c.says, away) {
					require.ErrorIs(t, at.May(), store.ErrFenced)
				}
				return ctx.Err()
			})
			require.ErrorIs(t, err, c.says)
			require.ErrorIs(t, err, store.ErrFenced)
			assert.Equal(t, 1, ledger.left, "it leaves what it can")
		})
	}
}

// A margin is left of a lease: what is sent in it would arrive when others have the work.
func TestMargin(t *testing.T) {
	at := &presence.Presence{Term: time.Minute}
	at.Renewed(time.Now().Add(-44 * time.Second))
	require.NoError(t, at.May())
	at.Renewed(time.Now().Add(-46 * time.Second))
	require.ErrorIs(t, at.May(), store.ErrFenced)
}

// What was not joined is not done, and who makes several batches leaves each of them.
func TestJoinAndAt(t *testing.T) {
	ledger := &crew{says: store.ErrBusy}
	_, err := presence.Join(t.Context(), ledger, term, nil, func(context.Context, *presence.Presence) error {
		t.Error("it is done all the same")
		return nil
	})
	require.ErrorIs(t, err, store.ErrBusy)
	ledger = &crew{}
	failed := errors.New("the sheet broke off")
	require.ErrorIs(t, presence.At(t.Context(), []store.Lease{ledger, ledger, ledger}, term, func(context.Context) error { return failed }), failed)
	assert.Equal(t, 3, ledger.left)
}
