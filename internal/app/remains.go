package app

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Remains is what of a batch is not done, or not known to be, though it was posted. Rows that were
// refused or failed are not of it: they have come to their end.
type Remains struct {
	Waiting   int  // rows that are still to be carried out or finished
	Unproven  int  // rows that are still to be read back
	Mails     int  // that were refused, or of which nobody can say whether they arrived
	FollowUps int  // of which nobody can say whether they were done
	Handed    int  // rows that were handed over, and of which nobody knows yet what became
	Blind     bool // there are follow-ups, and that is so of all of them
}

// Remaining reads what remains of a batch.
func Remaining(ctx context.Context, l store.Store, b *batch.Batch) (r Remains, err error) {
	counts, _, err := l.Counts(ctx, b.ID)
	if err != nil {
		return r, err
	}
	r.Handed = counts.Elsewhere()
	if r.Waiting = counts.Waiting(); !b.Reading.Left {
		r.Unproven = b.Reading.Open
	}
	mails, err := l.Steps(ctx, b.ID, membership.Notify)
	if err != nil {
		return r, err
	}
	for _, c := range mails {
		if c.Result == membership.Failed || c.Result == membership.Unclear || c.Result == membership.Sending {
			r.Mails += c.N
		}
	}
	follows, err := l.Steps(ctx, b.ID, membership.Follow)
	all := 0
	for _, c := range follows {
		if all += c.N; c.Result == membership.Unclear || c.Result == membership.Sending {
			r.FollowUps += c.N
		}
	}
	r.Blind = all > 0 && r.FollowUps == all
	return r, err
}

// Any reports whether anything remains that a further post could do. What was handed over is the application's turn.
func (r Remains) Any() bool { return r.Waiting+r.Unproven+r.Mails+r.FollowUps > 0 }

// String says what remains; empty: nothing.
func (r Remains) String() string {
	var parts []string
	for _, of := range []struct {
		n         int
		one, many string
	}{
		{r.Waiting, "1 row waits", "%d rows wait"},
		{r.Handed, "1 row was handed over, and nobody knows yet what became of it", "%d rows were handed over, and nobody knows yet what became of them"},
		{r.Unproven, "1 row is still to be read back", "%d rows are still to be read back"},
		{r.FollowUps, "it is unclear whether 1 follow-up was done", "it is unclear whether %d follow-ups were done"},
		{r.Mails, "1 mail was refused, or it is unclear whether it was sent", "%d mails were refused, or it is unclear whether they were sent"},
	} {
		switch {
		case of.n == 1:
			parts = append(parts, of.one)
		case of.n > 1:
			parts = append(parts, fmt.Sprintf(of.many, of.n))
		}
	}
	return strings.Join(parts, "; ")
}

// Err is the error of a batch of which nothing that was to be done elsewhere is known to be done;
// nil: it is not so.
func (r Remains) Err() error {
	if !r.Blind {
		return nil
	}
	return &system.Unclear{Err: errors.New("none of the follow-ups is known to have been done")}
}

// IsOver reports whether nothing of a batch is left for a post: no row waits, nothing is to be taken
// away or done around it, and what an earlier post did was read back, if it is to be.
func IsOver(ctx context.Context, l store.Store, b *batch.Batch) (bool, error) {
	counts, _, err := l.Counts(ctx, b.ID)
	// Of a post that was stopped or killed the end is still to be noted.
	ended := b.State != batch.Posting && b.State != batch.Stopped
	later := counts.Elsewhere() > 0 && len(b.Files) == 0 // the system says itself what became of it
	return err == nil && counts.Waiting() == 0 && !later && !b.Unmaking() && !b.WaitsAround() && ended, err
}
