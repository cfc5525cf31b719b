package standin

import (
	"fmt"
	"hash/fnv"
	"sync"
	"time"
)

// Faults are the troubles a stand-in makes on demand. Shares are from 0 to 1.
// Which request meets which trouble depends on the seed, on the request and on
// how often it came before, not on the order in which requests arrive: a test
// that sends the same requests meets the same troubles.
type Faults struct {
	Seed       int64
	Delay      time.Duration // before each answer
	Busy       float64       // answered 429 with Retry-After, and not carried out
	RetryAfter time.Duration // of those, in whole seconds
	Errors     float64       // answered 503; half of them after being carried out
	Drops      float64       // the connection is cut; half of them after being carried out
	Unseen     time.Duration // how long reads do not show a new resource
}

// trouble is what one request meets.
type trouble uint8

const (
	none trouble = iota
	busy
	errorBefore
	errorAfter
	dropBefore
	dropAfter
)

// dice throws for each request.
type dice struct {
	faults Faults
	mu     sync.Mutex
	seen   map[uint64]int
}

func (d *dice) throw(method, target string, body []byte) trouble {
	if d.faults.Busy+d.faults.Errors+d.faults.Drops == 0 {
		return none
	}
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s %s %s", d.faults.Seed, method, target, body)
	request := h.Sum64()
	d.mu.Lock()
	d.seen[request]++
	fmt.Fprintf(h, " %d", d.seen[request])
	d.mu.Unlock()
	number := h.Sum64()
	number ^= number >> 29 // the hash's low bits follow its last bytes
	number *= 0xbf58476d1ce4e5b9
	share, half := float64(number>>11)/float64(1<<53), number&1 == 0
	switch {
	case share < d.faults.Busy:
		return busy
	case share < d.faults.Busy+d.faults.Errors && half:
		return errorBefore
	case share < d.faults.Busy+d.faults.Errors:
		return errorAfter
	case share < d.faults.Busy+d.faults.Errors+d.faults.Drops && half:
		return dropBefore
	case share < d.faults.Busy+d.faults.Errors+d.faults.Drops:
		return dropAfter
	}
	return none
}
