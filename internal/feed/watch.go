package feed

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"
)

// wholeTimes is how many times as long as for one wait all of a delivery may take.
const wholeTimes = 60

// Silent is why a delivery was given up: nothing came for too long, or not all in time.
type Silent struct {
	Wait  time.Duration
	Whole bool  // all of it took longer than that; else nothing came for so long
	Bytes int64 // that had come by then
	Rows  int64 // of a query; 0: it was none, or none had come
}

func (e *Silent) Error() string {
	had := fmt.Sprintf("%d bytes had come by then", e.Bytes)
	if e.Rows > 0 {
		had = fmt.Sprintf("%d rows had come by then", e.Rows)
	}
	if e.Whole {
		return fmt.Sprintf("it was not all there after %s: %s", e.Wait, had)
	}
	return fmt.Sprintf("nothing came for %s: %s", e.Wait, had)
}

// A meter counts what comes.
type meter struct {
	bytes, rows atomic.Int64
	last        atomic.Int64 // when something came, in nanoseconds
}

func (m *meter) came(bytes, rows int64) {
	m.bytes.Add(bytes)
	m.rows.Add(rows)
	m.last.Store(time.Now().UnixNano())
}

// Watch returns a context that ends, with a *Silent as its cause, when nothing has come into the spool
// for so long, or not all of it in sixty times as long. Its time is that of the wall: a server is waited
// for, whatever clock the core goes by. Stop ends the watch.
func (s *Spool) Watch(ctx context.Context, wait time.Duration) (watched context.Context, stop func()) {
	watched, cancel := context.WithCancelCause(ctx)
	s.meter.came(0, 0)
	began := time.Now()
	tick := time.NewTicker(max(wait/10, time.Millisecond))
	go func() {
		defer tick.Stop()
		for {
			select {
			case <-watched.Done():
				return
			case <-tick.C:
			}
			silent := &Silent{Wait: wait, Bytes: s.meter.bytes.Load(), Rows: s.meter.rows.Load()}
			switch {
			case time.Since(time.Unix(0, s.meter.last.Load())) > wait:
				cancel(silent)
			case time.Since(began) > wholeTimes*wait:
				silent.Wait, silent.Whole = wholeTimes*wait, true
				cancel(silent)
			}
		}
	}()
	return watched, func() { cancel(nil) }
}

// Waits tells that the server is asked again after so long, as it said: until then it is not silent.
func (s *Spool) Waits(long time.Duration) { s.meter.last.Store(time.Now().Add(long).UnixNano()) }

// Row tells that a row of a query came.
func (s *Spool) Row() { s.meter.came(0, 1) }
