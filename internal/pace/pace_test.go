package pace_test

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/clock"
	"evenledger/internal/pace"
)

// A system lets so many requests a second pass, and tells of those that are too many.
type limited struct {
	mu            sync.Mutex
	rate, room    float64
	last          time.Time
	passed, taken int
}

func (l *limited) take() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	if !l.last.IsZero() {
		l.room = min(l.room+now.Sub(l.last).Seconds()*l.rate, l.rate)
	}
	l.last = now
	l.taken++
	if l.room < 1 {
		return false
	}
	l.room--
	l.passed++
	return true
}

func TestPace(t *testing.T) {
	for name, test := range map[string]struct {
		most, lets     float64 // requests a second
		low, high      float64 // that pass
		refused        float64 // share of what was sent, at most
		together, secs int
	}{
		"as configured":               {most: 50, lets: 1000, low: 49, high: 51, together: 4, secs: 20},
		"what the system lets pass":   {lets: 25, low: 22.5, high: 26.5, refused: 0.08, together: 8, secs: 60},
		"many a second":               {lets: 400, low: 340, high: 420, refused: 0.1, together: 16, secs: 30},
		"configured more than it can": {most: 100, lets: 20, low: 18, high: 21.5, refused: 0.1, together: 4, secs: 60},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p, s := pace.New(clock.Real(), test.most, time.Second, nil), &limited{rate: test.lets, room: test.lets}
				ctx, cancel := context.WithTimeout(t.Context(), time.Duration(test.secs)*time.Second)
				defer cancel()
				var workers sync.WaitGroup
				for range test.together {
					workers.Go(func() {
						for p.Wait(ctx) == nil {
							time.Sleep(2 * time.Millisecond)
							if s.take() {
								p.Pass()
								continue
							}
							_, goOn := p.Refused(0, false)
							assert.True(t, goOn)
						}
					})
				}
				workers.Wait()
				assert.InDelta(t, (test.low+test.high)/2, float64(s.passed)/float64(test.secs), (test.high-test.low)/2)
				assert.LessOrEqual(t, float64(s.taken-s.passed)/float64(s.taken), test.refused)
			})
		})
	}
}

func TestNamedTimesAreKept(t *testing.T) {
	c := clock.NewFake(time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC))
	p := pace.New(c, 0, time.Second, nil)
	begun := c.Now()
	until, goOn := p.Refused(90*time.Second, true)
	assert.True(t, goOn)
	assert.Equal(t, begun.Add(90*time.Second), until)
	require.NoError(t, p.Wait(t.Context()))
	assert.Equal(t, until, c.Now(), "nobody is sent before")

	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, _ = p.Refused(time.Hour, true)
	assert.ErrorIs(t, p.Wait(ended), context.Canceled)

	for n := 0; ; n++ {
		require.Less(t, n, 50, "it is given up when nothing passes")
		if _, goOn = p.Refused(time.Minute, true); !goOn {
			break
		}
		require.NoError(t, p.Wait(t.Context()))
	}
}
