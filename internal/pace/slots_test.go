package pace_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/pace"
)

// All that a system lets pass at once is somebody's, and nothing is two workers'.
func TestHands(t *testing.T) {
	for together := 1; together <= 9; together++ {
		for of := 1; of <= 12; of++ {
			sum := 0
			for rank := range of {
				crowd := &pace.Crowd{}
				crowd.Set(of, rank)
				sum += crowd.SlotsOf(together)
			}
			assert.Equal(t, together, sum, "%d workers", of)
		}
	}
	var nobody *pace.Crowd
	nobody.Set(3, 1)
	assert.Equal(t, 5, nobody.SlotsOf(5))
}

// However many want slots, no more have them than there are, and all get one in the end; when
// others come, there are fewer, and when they go, more.
func TestSlots(t *testing.T) {
	crowd := &pace.Crowd{}
	slots := pace.NewSlots(4, crowd)
	var under, most atomic.Int64
	through := func(n int) {
		var all sync.WaitGroup
		for range n {
			all.Go(func() {
				if !assert.NoError(t, slots.Take(t.Context())) {
					return
				}
				now := under.Add(1)
				for was := most.Load(); now > was && !most.CompareAndSwap(was, now); was = most.Load() {
				}
				time.Sleep(2 * time.Millisecond)
				under.Add(-1)
				slots.Free()
			})
		}
		all.Wait()
	}
	through(100)
	assert.EqualValues(t, 4, most.Swap(0))
	crowd.Set(3, 0)
	through(40)
	assert.EqualValues(t, 2, most.Swap(0))

	// One that has none of them waits until it does, or is stopped.
	crowd.Set(9, 8)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, slots.Take(ctx), context.DeadlineExceeded)
	got := make(chan error)
	go func() { got <- slots.Take(t.Context()) }()
	time.Sleep(20 * time.Millisecond)
	crowd.Set(8, 3)
	select {
	case err := <-got:
		require.NoError(t, err)
	case <-time.After(time.Minute):
		t.Fatal("it never gets its slot")
	}
}
