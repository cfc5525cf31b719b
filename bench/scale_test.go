package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The simulation comes to what can be worked out by hand where that is possible.
func TestSimulated(t *testing.T) {
	fast := machine{row: 0.1, trip: 0.05, disk: 0.5, most: 50_000}
	for name, c := range map[string]struct {
		machine
		place
		perSecond float64
		by        string
	}{
		"a slow system":               {fast, place{answers: 50, workers: 1}, 80, "time"},
		"more workers":                {fast, place{answers: 50, workers: 16}, 1280, "time"},
		"a limit":                     {fast, place{answers: 50, passes: 10, workers: 4}, 10, "limit"},
		"a limit nobody reaches":      {fast, place{answers: 500, passes: 1000, workers: 4}, 32, "time"},
		"a slow processor":            {machine{row: 10, trip: 0.05, disk: 0.5, most: 50_000}, place{answers: 5, workers: 2}, 200, "processor"},
		"a slow server of the ledger": {machine{row: 0.1, trip: 0.05, disk: 0.5, most: 1000}, place{answers: 5, workers: 8}, 1000, "server"},
	} {
		s := simulated(c.machine, c.place)
		assert.InEpsilon(t, c.perSecond, s.perSecond, 0.08, name)
		assert.Equal(t, c.by, s.by, name)
	}
	near, far := simulated(fast, place{answers: 5, workers: 1}), simulated(fast, place{answers: 5, workers: 1, away: 200})
	assert.Less(t, far.perSecond, near.perSecond/2)
	assert.Equal(t, "way", far.by)
	assert.Equal(t, "17 min", simulation{perSecond: 1000}.million())
	assert.Equal(t, "27.8 h", simulation{perSecond: 10}.million())
	assert.Equal(t, "11.6 days", simulation{perSecond: 1}.million())
}
