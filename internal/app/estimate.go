package app

import (
	"context"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// A Load is what posting a draft asks of its system, and how long that may take.
type Load struct {
	Accounts    int     `json:"accounts"`              // requests that make, change or remove accounts
	Memberships int     `json:"memberships,omitempty"` // that change who is in a thing
	Others      int     `json:"others,omitempty"`      // of references, passwords, names and files
	Mails       int     `json:"mails,omitempty"`
	FollowUps   int     `json:"followUps,omitempty"`
	Rate        float64 `json:"rate,omitempty"`    // requests a second that are allowed; 0: nothing says
	Seconds     float64 `json:"seconds,omitempty"` // it may take; 0: nobody can say
	As          int     `json:"asBatch,omitempty"` // the batch as which it is judged; 0: by the rate
}

// Requests are those to the system. Looking up and reading back come on top.
func (l Load) Requests() int { return l.Accounts + l.Memberships + l.Others }

// surely is how many rows a batch has to have had that another is judged by.
const surely = 20

// LoadOf reads what posting a batch asks of its system.
func LoadOf(ctx context.Context, l store.Store, b *batch.Batch, can system.Abilities) (load Load, err error) {
	_, waiting, err := l.Counts(ctx, b.ID)
	if err != nil {
		return load, err
	}
	entries := 0
	for intent, n := range waiting {
		entries += n
		if intent != account.Finish {
			load.Accounts += requests(n, system.VerbOf(intent), can)
		}
	}
	for _, does := range []membership.Verb{membership.Join, membership.Leave, membership.Refer, membership.Renew, membership.Stay, membership.Reown, membership.Follow, membership.Notify} {
		counts, err := l.Steps(ctx, b.ID, does)
		if err != nil {
			return load, err
		}
		for _, c := range counts {
			if c.Result != "" && c.Result != membership.Queued {
				continue
			}
			switch does {
			case membership.Join, membership.Leave:
				load.Memberships += (c.N + max(1, can.Ties) - 1) / max(1, can.Ties)
			case membership.Notify:
				load.Mails += c.N
			case membership.Follow:
				load.FollowUps += c.N
			case membership.Refer:
				load.Others += requests(c.N, system.Changes, can)
			case membership.Renew:
				load.Others += requests(c.N, system.Renews, can)
			default:
				load.Others += c.N
			}
		}
	}
	if load.Rate = can.Rate; load.Rate > 0 {
		load.Seconds = float64(load.Requests()) / load.Rate
	}
	of, took, err := lately(ctx, l, b)
	if err != nil || of.ID == 0 {
		return load, err
	}
	if seconds := took.Seconds() / float64(of.ToDo) * float64(entries); seconds > load.Seconds {
		load.Seconds, load.As = seconds, of.ID
	}
	return load, nil
}

// requests is how many so many orders of a verb take.
func requests(n int, does system.Verb, can system.Abilities) int {
	if can.Bulk && slices.Contains(can.Together, does) {
		n = (n + max(1, can.AtOnce) - 1) / max(1, can.AtOnce)
	}
	return n
}

// lately is the newest batch of the same system that was posted in one go, and how long that took; of number 0: there is none.
func lately(ctx context.Context, l store.Store, b *batch.Batch) (of batch.Batch, took time.Duration, err error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return of, 0, err
	}
	for _, other := range all { // the newest first
		if other.ID == b.ID || other.System != b.System || other.State != batch.Posted || other.Posts != 1 || other.ToDo < surely || len(other.Files) > 0 {
			continue
		}
		ended, err := l.LastEnded(ctx, other.ID)
		if err != nil {
			return of, 0, err
		}
		if took = ended.Sub(other.Posted); took > 0 {
			return other, took, nil
		}
	}
	return of, 0, nil
}
