package app

import (
	"slices"
	"time"

	"evenledger/internal/store"
)

// A LateBrief is one whose last run that went well is too long ago.
type LateBrief struct {
	Brief string    `json:"brief"`
	Good  time.Time `json:"lastGood,omitzero"` // when that began; zero: none ever did
	Last  store.Run `json:"lastRun"`
}

// LateBriefs are those of runs, the newest first, whose last run that went well began before a time, and how many briefs there are.
func LateBriefs(runs []store.Run, since time.Time) (late []LateBrief, briefs int) {
	late = []LateBrief{}
	seen := map[string]int{} // brief → its place in late
	for _, r := range runs {
		good := r.Came == store.RunPosted || r.Came == store.RunDrafted || r.Came == store.RunNothing
		at, known := seen[r.Brief]
		if !known {
			at, seen[r.Brief] = len(late), len(late)
			late = append(late, LateBrief{Brief: r.Brief, Last: r})
		}
		if one := &late[at]; good && one.Good.IsZero() {
			one.Good = r.Began
		}
	}
	return slices.DeleteFunc(late, func(l LateBrief) bool { return l.Good.After(since) }), len(seen)
}
