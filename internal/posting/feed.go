package posting

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// feed hands the waiting entries out, each once it is claimed.
func (p *run) feed(ctx context.Context, ready chan<- []store.Result) error {
	// The next window is read while this one is sent.
	windows := make(chan []batch.Entry)
	group, feeding := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(windows)
		return p.readWindows(feeding, windows)
	})
	group.Go(func() error {
		for window := range windows {
			if err := p.feedWindow(feeding, window, ready); err != nil {
				return err
			}
		}
		return nil
	})
	// Feeding is always over by now: whether the post was stopped, ctx says.
	return ignoreCancel(ctx, group.Wait())
}

// readWindows reads the waiting entries in pieces; the first is small, so that
// sending begins soon.
func (p *run) readWindows(ctx context.Context, windows chan<- []batch.Entry) error {
	size := firstLook
	for after, read := p.part.Low-1, 0; read < p.part.N; size = lookAhead {
		var window []batch.Entry
		filter := store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true, Secrets: p.Batch.Secrets != "", After: after, Upto: p.part.High, Limit: min(size, p.part.N-read)}
		for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, filter) {
			if err != nil {
				return err
			}
			window = append(window, e)
		}
		if len(window) == 0 {
			return nil
		}
		after = window[len(window)-1].Row
		read += len(window)
		select {
		case windows <- window:
		case <-ctx.Done():
			return nil
		}
	}
	return nil
}

func (p *run) feedWindow(ctx context.Context, window []batch.Entry, ready chan<- []store.Result) error {
	var looked time.Time
	size := blockSize
	for len(window) > 0 && ctx.Err() == nil {
		if p.Clock.Now().Sub(looked) > lookAgain {
			if err := p.refuseStale(ctx, window); err != nil {
				return err
			}
			if err := p.lookAtKnown(ctx, window); err != nil {
				return err
			}
			looked = p.Clock.Now()
		}
		begun := p.Clock.Now()
		block := window[:min(size, len(window))]
		window = window[len(block):]
		asked := time.Now()
		claim, err := p.claim(ctx, block)
		if err != nil {
			return err
		}
		lasts := max(blockTime, 4*time.Since(asked)) // a ledger far away is asked for more at a time
		// Once noted, each has to come to a result, be it that it was not sent.
		for _, group := range p.groups(block, claim) {
			ready <- group
		}
		// What is noted and not sent has to be looked up if the post is killed, and each block
		// is a wait for the ledger: none is larger than what is sent in a moment.
		switch took := p.Clock.Now().Sub(begun); {
		case took < lasts/2:
			size = min(2*size, mostClaimed)
		case took > 2*lasts:
			size = max(size/2, blockSize)
		}
	}
	return nil
}

// claim notes those of a block of which requests are about to be sent.
func (p *run) claim(ctx context.Context, block []batch.Entry) (claim store.Claim, err error) {
	sent := slices.DeleteFunc(slices.Clone(block), func(e batch.Entry) bool { return e.Intent != account.Create && onlySteps(&e) })
	if len(sent) == 0 {
		return 0, nil
	}
	asked := time.Now()
	if claim, err = p.at.Lease.Claim(ctx, sent, p.Clock.Now()); err == nil {
		p.at.Renewed(asked)
	}
	return claim, err
}

// settle notes results, unless others may have the worker's work.
func (p *run) settle(ctx context.Context, results []store.Result) error {
	asked := time.Now()
	err := p.at.Lease.Settle(ctx, results, p.Clock.Now())
	if err == nil {
		p.at.Renewed(asked)
	}
	return err
}

// ignoreCancel leaves a cancellation to the context's own cause.
func ignoreCancel(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// refuseStale looks once more, just before they are sent, whether somebody made
// the accounts that are about to be created.
func (p *run) refuseStale(ctx context.Context, window []batch.Entry) error {
	var creates []*batch.Entry
	for i := range window {
		// What an earlier request of ours made is no one else's.
		if e := &window[i]; e.Intent == account.Create && waits(e) && !p.resent[e.Row].any() {
			creates = append(creates, e)
		}
	}
	creates, err := p.perhapsTaken(ctx, creates)
	if err != nil {
		return err
	}
	index, err := p.byKeys(ctx, creates, p.Together)
	if err != nil {
		return err
	}
	for _, e := range creates {
		for field, value := range p.keys(*e) {
			if hits := index.Find(field, value); len(hits) > 0 {
				e.Find(account.Error, account.Stale, field, "", fmt.Sprintf("the account %s (%s) was made since the draft and has the %s “%s”", hits[0].Label(), hits[0].ID, p.about.Field(field).Label, value))
				p.refuse(e)
				break
			}
		}
	}
	return nil
}

// fewKnown is how many known accounts are looked at before the first is changed.
const fewKnown = 20

// lookAtKnown looks at accounts that are about to be changed, many with one request: at
// some before the first change, to see that they are still whose they were, and at each
// of which only memberships are to change, as no other request would show that somebody
// changed it since the draft.
func (p *run) lookAtKnown(ctx context.Context, window []batch.Entry) error {
	looked := p.toLookAt(window)
	if len(looked) == 0 {
		return nil
	}
	ids := slices.Sorted(maps.Keys(looked))
	var stranger error
	seen := map[string]bool{}
	_, err := system.Fetch(ctx, p.System, map[string][]string{system.ByID: ids}, p.fields(), p.Together, func(now account.Account) {
		if seen[now.ID] {
			return
		}
		seen[now.ID] = true
		for _, e := range looked[now.ID] {
			if batch.Stranger(p.about.Schema, e.Known, &now, p.Batch.Match) {
				stranger = p.otherSystem(e, now)
			} else if onlySteps(e) {
				p.refuseIfStale(ctx, e, now, false)
			}
		}
	})
	if err != nil || stranger != nil {
		return errors.Join(err, stranger)
	}
	for id, entries := range looked {
		for _, e := range entries {
			if !seen[id] && onlySteps(e) {
				p.gone(e)
			}
		}
	}
	return nil
}

// toLookAt picks the entries whose accounts are looked at, by account: several rows may
// bring memberships to one.
func (p *run) toLookAt(window []batch.Entry) map[string][]*batch.Entry {
	looked, some := map[string][]*batch.Entry{}, 0
	for i := range window {
		e := &window[i]
		if e.Intent == account.Create || e.Account == "" || !waits(e) {
			continue
		}
		first := !p.checked && some < fewKnown
		if first {
			some++
		}
		if first || onlySteps(e) {
			looked[e.Account] = append(looked[e.Account], e)
		}
	}
	p.checked = true
	return looked
}

// onlySteps reports whether the account itself is not to change.
func onlySteps(e *batch.Entry) bool { return len(e.Changes) == 0 && e.Intent != account.Remove }

// settleOpen settles the steps of the part that an earlier post, or another worker, left without
// a result: each is looked up in the system. What was not carried out waits again.
func (p *run) settleOpen(ctx context.Context) error {
	// The part is this worker's: whoever claimed something of it is dead.
	open, err := p.Ledger.InFlight(ctx, p.Batch.ID, p.part)
	if err != nil || len(open) == 0 {
		return err
	}
	// The newest may still be on their way to where they can be seen.
	newest := open[0].Sent
	for _, step := range open {
		if step.Sent.After(newest) {
			newest = step.Sent
		}
	}
	// What was noted waits for its turn: it was sent until the post was cut short, and that
	// was after the last result at least.
	last, err := p.Ledger.LastEnded(ctx, p.Batch.ID)
	if err != nil {
		return err
	}
	for i := range open {
		if open[i].Sent = newest; last.After(newest) {
			open[i].Sent = last
		}
	}
	left := p.Settle - p.Clock.Now().Sub(newest)
	if p.part.Again { // another machine sent it, whose clock may be another
		left = p.Settle
	}
	if left > 0 && slices.ContainsFunc(open, func(o store.InFlight) bool { return o.Entry.Intent == account.Create }) {
		p.waits(min(left, p.Settle))
		if err := p.Clock.Wait(ctx, min(left, p.Settle)); err != nil {
			return err
		}
	}
	if err := p.lookForOpen(ctx, open); err != nil {
		return err
	}
	settled := make([]store.Result, 0, len(open))
	for _, step := range open {
		e := step.Entry
		if e.Intent != account.Create {
			_, _, err = p.settleChange(ctx, &e, true)
		}
		if err != nil {
			break
		}
		if waits(&e) {
			p.resent[e.Row] = sent{step.First, step.Sent}
		}
		settled = append(settled, store.Result{Entry: e, Claim: step.Claim})
	}
	after := context.WithoutCancel(ctx)
	err = errors.Join(p.settle(after, settled), err)
	if p.Batch.Secrets != "" {
		err = errors.Join(err, p.wipe(after, settled))
	}
	return err
}
