package posting

import (
	"context"
	"hash/maphash"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/system"
)

// A glance is which keys the accounts of a system had when all of them were listed: what is not in
// it was nobody's then. A long post looks at every account once in a while, where asking for the
// keys of its rows, window for window, would take more requests.
type glance struct {
	until time.Time // it holds
	holds time.Duration
	seed  maphash.Seed
	keys  []uint64 // hashes of fields with values, in order
}

// How long a glance holds: ten times as long as it took, so that looking is a tenth of the work.
const (
	leastGlance = time.Minute
	glanceHolds = 10
)

func (g *glance) hash(f account.Field, value string) uint64 {
	var h maphash.Hash
	h.SetSeed(g.seed)
	_, _ = h.WriteString(f.Name)
	_ = h.WriteByte(0)
	_, _ = h.WriteString(f.Key(value))
	return h.Sum64()
}

func (g *glance) has(hash uint64) bool {
	_, found := slices.BinarySearch(g.keys, hash)
	return found
}

// perhapsTaken leaves out the entries of which no account had a key the last time that all were
// looked at, if that still holds.
func (p *run) perhapsTaken(ctx context.Context, entries []*batch.Entry) ([]*batch.Entry, error) {
	if len(entries) == 0 {
		return entries, nil
	}
	if p.glance == nil || !p.Clock.Now().Before(p.glance.until) {
		if err := p.lookAround(ctx); err != nil || p.glance == nil {
			return entries, err
		}
	}
	return slices.DeleteFunc(entries, func(e *batch.Entry) bool {
		for field, value := range p.keys(*e) {
			if p.glance.has(p.glance.hash(p.about.Field(field), value)) {
				return false
			}
		}
		return true
	}), nil
}

// lookAround lists all accounts, if that takes fewer requests than asking for the keys of all rows
// that will be sent until it would have to be done again.
func (p *run) lookAround(ctx context.Context) error {
	holds := leastGlance
	if p.glance != nil {
		holds = p.glance.holds
	}
	p.glance = nil
	p.counting.Lock()
	rows, left, took := p.own, p.total-p.done, p.Clock.Now().Sub(p.begun)
	p.counting.Unlock()
	if rows == 0 || took <= 0 {
		return nil // nobody knows yet how fast it goes
	}
	rows = min(left, int(float64(rows)*float64(holds)/float64(took)))
	keys := slices.Compact(slices.Sorted(slices.Values(slices.Concat(p.Batch.Match, p.Batch.Numbers))))
	var fields []account.Field
	for _, field := range keys {
		fields = append(fields, p.about.Field(field))
	}
	if way, err := system.Looks(ctx, p.System, rows*len(fields), 0); err != nil || !way.Listed {
		return err
	}
	begun := p.Clock.Now()
	g := &glance{seed: maphash.MakeSeed()}
	for a, err := range p.System.List(ctx, keys) {
		if err != nil {
			return err
		}
		for _, f := range fields {
			if value := a.Field(f.Name); value.Filled() {
				g.keys = append(g.keys, g.hash(f, value.Text()))
			}
		}
	}
	slices.Sort(g.keys)
	g.holds = min(max(glanceHolds*p.Clock.Now().Sub(begun), leastGlance), lookAgain)
	g.until = begun.Add(g.holds)
	p.glance = g
	return nil
}
