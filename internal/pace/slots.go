package pace

import (
	"context"
	"sync"
	"time"
)

// Slots hold the requests under way to so many at once: of this process, or of all that share the
// system. It may be used by several goroutines.
type Slots struct {
	most   int
	crowd  *Crowd // with whom they are shared; nil: nobody
	mu     sync.Mutex
	taken  int
	ending chan struct{} // holds a word if one may be free
}

// listens is how often it is looked whether the crowd changed.
const listens = 250 * time.Millisecond

// NewSlots returns so many slots, at least one, for all of the crowd together.
func NewSlots(most int, crowd *Crowd) *Slots {
	return &Slots{most: max(1, most), crowd: crowd, ending: make(chan struct{}, 1)}
}

// Take waits for a slot, or until ctx is done; the error is its own.
func (s *Slots) Take(ctx context.Context) error {
	for ctx.Err() == nil {
		if s.take() {
			return nil
		}
		timer := time.NewTimer(listens)
		select {
		case <-s.ending:
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
	}
	return ctx.Err()
}

func (s *Slots) take() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	limit := s.crowd.SlotsOf(s.most)
	if s.taken >= limit {
		return false
	}
	if s.taken++; s.taken < limit {
		s.tell() // another may wait
	}
	return true
}

// Free gives a slot back.
func (s *Slots) Free() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken--
	s.tell()
}

func (s *Slots) tell() {
	select {
	case s.ending <- struct{}{}:
	default:
	}
}
