// Package posting carries a batch out.
//
// It promises that a request is noted in the ledger before it is sent and its
// result after, so that whenever it is stopped or killed, a further post goes on
// where it was: nothing is left out and nothing is done twice. A step whose
// result is unknown is looked up in the system before anything is sent again. An
// entry whose account changed since the draft is refused as stale.
package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/ledger"
	"evenledger/internal/membership"
	"evenledger/internal/secret"
	"evenledger/internal/system"
)

// Sizes of what is noted together. A block's intents are committed before its
// requests are sent; results are committed a moment after they come.
const (
	blockSize   = 64
	resultSize  = 512 // at most
	resultDelay = 25 * time.Millisecond
	firstLook   = 1000             // entries whose accounts are looked up before sending begins
	lookAhead   = 20000            // entries whose accounts are looked up together after that
	lookAgain   = 10 * time.Minute // after which they are looked up again
	maxAttempts = 3                // at a request whose answer stays unclear
)

// A Post carries one batch out.
type Post struct {
	Ledger   *ledger.Ledger
	System   system.System
	Batch    *batch.Batch
	Together int           // requests in flight
	Settle   time.Duration // how long a new account may stay unseen
	Trial    int           // stop after this many entries; 0: carry all out
	Vault    *secret.Vault // opens passwords; nil: the batch has none
	Now      func() time.Time
	Progress func(stage string, done, total int) // may be nil

	again   bool        // an earlier post of the batch may have sent something
	made    atomic.Bool // an account was created
	seen    time.Time   // until then accounts that were created may stay unseen
	results chan ledger.Result

	counting    sync.Mutex
	stage       string
	done, total int
	atOnce      int          // accounts that are made in one request; below 2: one by one
	resent      map[int]bool // rows whose request an earlier post may have had carried out
}

// Run carries out the entries that wait. It returns when all are done, the trial
// is over, ctx is done (after the requests in flight have ended) or the system
// can no longer be used; the error says which. The caller has locked "post".
func (p *Post) Run(ctx context.Context) error {
	if p.again = !p.Batch.Posted.IsZero(); p.again {
		p.seen = p.Now().Add(p.Settle)
	}
	p.Batch.State, p.Batch.Posted = batch.Posting, p.Now()
	if err := p.Ledger.Save(ctx, p.Batch); err != nil {
		return err
	}
	err := p.run(ctx)
	// What follows must be noted though the context may be over.
	after := context.WithoutCancel(ctx)
	counts, waiting, countErr := p.Ledger.Counts(after, p.Batch.ID)
	p.Batch.State = batch.Stopped
	if countErr == nil && len(waiting) == 0 {
		p.Batch.State = batch.Posted
	}
	err = errors.Join(err, countErr, p.Ledger.Save(after, p.Batch))
	if err == nil && p.Batch.Reverses > 0 && p.Batch.State == batch.Posted && counts[account.Failed]+counts[account.Refused] == 0 {
		err = p.reversed(after)
	}
	return err
}

// reversed notes that the batch which this one undoes is undone.
func (p *Post) reversed(ctx context.Context) error {
	of, err := p.Ledger.Batch(ctx, p.Batch.Reverses)
	if err != nil {
		return err
	}
	of.State = batch.Reversed
	return p.Ledger.Save(ctx, of)
}

// run carries out the accounts' own steps first, then what refers to accounts,
// then the memberships.
func (p *Post) run(ctx context.Context) error {
	if err := p.settleOpen(ctx); err != nil {
		return err
	}
	if bulker, ok := p.System.(system.Bulker); ok {
		var err error
		if p.atOnce, err = bulker.AtOnce(ctx); err != nil {
			return err
		}
	}
	stages := []func(context.Context, func(error)) error{p.accounts, p.references, p.memberships}
	for _, stage := range stages {
		if err := p.recorded(ctx, stage); err != nil {
			return err
		}
	}
	return nil
}

// recorded runs a stage while its results are written down.
func (p *Post) recorded(ctx context.Context, stage func(context.Context, func(error)) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	p.results = make(chan ledger.Result, blockSize)
	written := make(chan error, 1)
	go func() { written <- p.record(context.WithoutCancel(ctx), cancel) }()
	err := stage(ctx, func(err error) { cancel(err) })
	close(p.results)
	err = errors.Join(err, <-written)
	if cause := context.Cause(ctx); cause != nil && !errors.Is(err, cause) {
		err = errors.Join(cause, err)
	}
	return err
}

// accounts carries out the accounts' own steps.
func (p *Post) accounts(ctx context.Context, stop func(error)) error {
	total, err := p.Ledger.Open(ctx, p.Batch.ID)
	if err != nil {
		return err
	}
	if p.Trial > 0 {
		total = min(total, p.Trial)
	}
	p.begin("accounts", total)
	// The next block is noted while this one is sent. What is noted and not sent
	// has to be looked up if the post is killed, so it is no more than that.
	ready := make(chan []ledger.Result, blockSize/max(1, p.atOnce)+1)
	var workers sync.WaitGroup
	// A request in flight is let to end when the person stops the post.
	sending := context.WithoutCancel(ctx)
	for range max(1, p.Together) {
		workers.Go(func() {
			for group := range ready {
				open := false // noted as on their way
				if ctx.Err() == nil {
					if err := p.carryOutAll(sending, group); err != nil {
						stop(err)
						open = isOpen(err)
					}
				}
				for _, r := range group {
					if !waits(&r.Entry) {
						p.advance(1)
					}
					if !open || !waits(&r.Entry) {
						p.results <- r
					}
				}
			}
		})
	}
	err = p.feed(ctx, ready, total)
	close(ready)
	workers.Wait()
	if p.made.Load() {
		p.seen = p.Now().Add(p.Settle)
	}
	return err
}

// unseen waits a moment if accounts that were created may still be unseen, and
// reports whether they may: what is refused for that is worth another try.
func (p *Post) unseen(ctx context.Context) bool {
	left := p.seen.Sub(p.Now())
	if left <= 0 {
		return false
	}
	select {
	case <-time.After(min(left, 200*time.Millisecond)):
		return true
	case <-ctx.Done():
		return false
	}
}

// waits reports whether the entry's account's own step is still to be done.
func waits(e *batch.Entry) bool { return e.Outcome == account.Waiting && e.Did == "" }

// isOpen reports whether an error leaves it open what became of the request.
func isOpen(err error) bool {
	var unclear *system.Unclear
	return errors.As(err, &unclear)
}

// feed hands the waiting entries out, each after its intent is on disk.
func (p *Post) feed(ctx context.Context, ready chan<- []ledger.Result, total int) error {
	// The next window is read while this one is sent.
	windows := make(chan []batch.Entry)
	group, feeding := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(windows)
		return p.readWindows(feeding, total, windows)
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
func (p *Post) readWindows(ctx context.Context, total int, windows chan<- []batch.Entry) error {
	size := firstLook
	for after, read := 0, 0; read < total; size = lookAhead {
		var window []batch.Entry
		filter := ledger.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true, Secrets: p.Batch.Secrets != "", After: after, Limit: min(size, total-read)}
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

func (p *Post) feedWindow(ctx context.Context, window []batch.Entry, ready chan<- []ledger.Result) error {
	var looked time.Time
	for len(window) > 0 && ctx.Err() == nil {
		if p.Now().Sub(looked) > lookAgain {
			if err := p.refuseStale(ctx, window); err != nil {
				return err
			}
			looked = p.Now()
		}
		block := window[:min(blockSize, len(window))]
		window = window[len(block):]
		intent, err := p.Ledger.Intend(ctx, p.Batch.ID, block, p.Now())
		if err != nil {
			return err
		}
		// Once noted, each has to come to a result, be it that it was not sent.
		for _, group := range p.groups(block, intent) {
			ready <- group
		}
	}
	return nil
}

// ignoreCancel leaves a cancellation to the context's own cause.
func ignoreCancel(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// record writes results down in small groups.
func (p *Post) record(ctx context.Context, stop func(error)) error {
	var group []ledger.Result
	var failed error
	write := func() {
		if failed != nil {
			return // the steps stay noted as sent, and are looked up the next time
		}
		if failed = p.Ledger.Record(ctx, p.Batch.ID, group, p.Now()); failed != nil {
			stop(failed)
		}
		if p.Batch.Secrets == "given" && failed == nil {
			failed = p.wipe(ctx, group)
		}
		group = group[:0]
	}
	tick := time.NewTicker(resultDelay)
	defer tick.Stop()
	for {
		select {
		case r, more := <-p.results:
			if !more {
				write()
				return failed
			}
			if group = append(group, r); len(group) == resultSize {
				write()
			}
		case <-tick.C:
			if len(group) > 0 {
				write()
			}
		}
	}
}

// begin begins to count the work of a stage.
func (p *Post) begin(stage string, total int) {
	p.counting.Lock()
	defer p.counting.Unlock()
	p.stage, p.done, p.total = stage, 0, total
}

// advance tells that n more are done.
func (p *Post) advance(n int) {
	p.counting.Lock()
	defer p.counting.Unlock()
	if p.done = min(p.done+n, p.total); p.Progress != nil && p.total > 0 {
		p.Progress(p.stage, p.done, p.total)
	}
}

// wipe takes away the given passwords of accounts that are settled.
func (p *Post) wipe(ctx context.Context, group []ledger.Result) error {
	var rows []int
	for _, r := range group {
		if r.Entry.Intent == account.Create && !waits(&r.Entry) {
			rows = append(rows, r.Entry.Row)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return p.Ledger.Wipe(ctx, p.Batch.ID, rows)
}

// refuseStale looks once more, just before they are sent, whether somebody made
// the accounts that are about to be created.
func (p *Post) refuseStale(ctx context.Context, window []batch.Entry) error {
	keys := map[string][]string{}
	for _, e := range window {
		if e.Intent == account.Create && !p.resent[e.Row] {
			for field, value := range p.keys(e) {
				keys[field] = append(keys[field], value)
			}
		}
	}
	if len(keys) == 0 {
		return nil
	}
	var fields []account.Field
	names := []string{"userName"}
	for field := range keys {
		fields = append(fields, batch.NamedField(field))
		names = append(names, field)
	}
	index := batch.NewIndex(fields, keys)
	if _, err := system.Fetch(ctx, p.System, keys, names, p.Together, index.Add); err != nil {
		return err
	}
	for i := range window {
		e := &window[i]
		if e.Intent != account.Create || p.resent[e.Row] {
			continue // what an earlier request of ours made is no one else's
		}
		for field, value := range p.keys(*e) {
			if hits := index.Find(field, value); len(hits) > 0 {
				e.Find(account.Error, "stale", field, "", fmt.Sprintf("the account %s (%s) was made since the draft and has the %s “%s”", hits[0].Label(), hits[0].ID, batch.NamedField(field).Label, value))
				p.refuse(e)
				break
			}
		}
	}
	return nil
}

// keys are the fields and values by which the entry's account is found.
func (p *Post) keys(e batch.Entry) map[string]string {
	keys := map[string]string{}
	for _, change := range e.Changes {
		if change.After.Filled() && slices.Contains(p.Batch.Match, change.Field) {
			keys[change.Field] = change.After.Text()
		}
	}
	return keys
}

func (p *Post) fields() []string {
	if slices.Contains(p.Batch.Fields, "userName") {
		return p.Batch.Fields
	}
	return append([]string{"userName"}, p.Batch.Fields...)
}

// carryOut sends the entry's request and settles its outcome. An error means
// that the post cannot go on; then the entry's outcome is Waiting if nothing
// came of it.
func (p *Post) carryOut(ctx context.Context, e *batch.Entry) error {
	switch {
	case e.Intent == account.Create:
		return p.create(ctx, e, p.resent[e.Row])
	case e.Intent == account.Remove:
		return p.remove(ctx, e)
	case len(e.Changes) == 0:
		e.Did = e.Intent.Comes() // only steps follow
		e.Settle()
		return nil
	}
	return p.change(ctx, e)
}

// create makes the entry's account. It is unclear if an earlier request may have
// made it.
func (p *Post) create(ctx context.Context, e *batch.Entry, unclear bool) error {
	wanted, err := p.wantedOf(e)
	if err != nil {
		return err
	}
	if unclear {
		if found, err := p.lookFor(ctx, e, 0); err != nil || found {
			return err
		}
	}
	for range maxAttempts {
		made, err := p.System.Create(ctx, wanted, p.fields())
		var refusal *system.Refusal
		switch {
		case err == nil:
			p.created(e, made)
			return nil
		case isOpen(err):
			unclear = true
			if found, err := p.lookFor(ctx, e, p.Settle); err != nil || found {
				return err
			}
		case errors.As(err, &refusal):
			if unclear && refusal.Code == "taken-value" {
				// The earlier request may have been carried out after all.
				if found, err := p.lookFor(ctx, e, p.Settle); err != nil || found {
					return err
				}
			}
			p.fail(e, refusal.Code, refusal.Field, without(refusal.Message, wanted.Password))
			return nil
		case errors.Is(err, system.ErrGone):
			p.fail(e, "system-refused", "", "the system has no place to create accounts in")
			return nil
		default:
			return stillOpen(unclear, err)
		}
	}
	p.fail(e, "unclear", "", fmt.Sprintf("the system gave no clear answer %d times, and no such account appeared", maxAttempts))
	return nil
}

// stillOpen keeps it open what became of an earlier request when the one that
// followed could not be sent.
func stillOpen(unclear bool, err error) error {
	if unclear {
		return &system.Unclear{Err: err}
	}
	return err
}

func (p *Post) created(e *batch.Entry, made account.Account) {
	e.Did, e.Account, e.Version = account.Created, made.ID, made.Version
	p.made.Store(true)
	p.told(e, made)
	e.Settle()
}

// without takes a password out of what a system says.
func without(message, password string) string {
	if password == "" {
		return message
	}
	return strings.ReplaceAll(message, password, "(the password)")
}

// told notes what the system kept otherwise than it was sent.
func (p *Post) told(e *batch.Entry, now account.Account) {
	for _, f := range system.NotKept(e.Changes, now) {
		f.Row = e.Row
		e.Findings = append(e.Findings, f)
	}
}

// lookFor looks whether the entry's account was made after all, until patience
// runs out, as a new account may take a while to be seen.
func (p *Post) lookFor(ctx context.Context, e *batch.Entry, patience time.Duration) (found bool, err error) {
	missing, err := p.lookForAll(ctx, []*batch.Entry{e}, patience)
	return err == nil && len(missing) == 0, err
}

// lookForAll does so for many, and returns those whose account was not found.
func (p *Post) lookForAll(ctx context.Context, missing []*batch.Entry, patience time.Duration) ([]*batch.Entry, error) {
	for pause := 100 * time.Millisecond; ; pause *= 2 {
		keys := map[string][]string{}
		for _, e := range missing {
			for field, value := range p.keys(*e) {
				keys[field] = append(keys[field], value)
			}
		}
		hits := map[*batch.Entry]account.Account{}
		_, err := system.Fetch(ctx, p.System, keys, p.fields(), 1, func(a account.Account) {
			for _, e := range missing {
				if p.isOf(a, e) {
					hits[e] = a
				}
			}
		})
		if err != nil {
			// It is still open what became of the request.
			return missing, &system.Unclear{Err: err}
		}
		missing = slices.DeleteFunc(slices.Clone(missing), func(e *batch.Entry) bool {
			a, found := hits[e]
			if found {
				p.created(e, a)
			}
			return found
		})
		if len(missing) == 0 || patience <= 0 {
			return missing, nil
		}
		pause = min(pause, patience)
		patience -= pause
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return missing, ctx.Err()
		}
	}
}

// isOf reports whether an account is the entry's: all its keys agree.
func (p *Post) isOf(a account.Account, e *batch.Entry) bool {
	keys := p.keys(*e)
	for field, value := range keys {
		if f := batch.NamedField(field); !f.Same(a.Field(field).Text(), value) {
			return false
		}
	}
	return len(keys) > 0
}

func (p *Post) change(ctx context.Context, e *batch.Entry) error {
	known := account.Account{ID: e.Account, Version: e.Version, Fields: e.Known}
	versioner, ok := p.System.(system.Versioner)
	look := known.Version == "" || !ok || !versioner.Versions()
	unclear := false
	for range maxAttempts {
		if look {
			settled, now, err := p.settleChange(ctx, e, unclear)
			if err != nil || settled {
				return err
			}
			known.Version = now.Version
		}
		now, err := p.System.Change(ctx, known, e.Changes, p.fields())
		var refusal *system.Refusal
		switch {
		case err == nil:
			p.changed(e, now)
			p.told(e, now)
			return nil
		case isOpen(err):
			look, unclear = true, true
		case errors.Is(err, system.ErrChanged):
			look = true
		case errors.Is(err, system.ErrGone):
			p.gone(e)
			return nil
		case errors.As(err, &refusal):
			p.fail(e, refusal.Code, refusal.Field, refusal.Message)
			return nil
		default:
			return stillOpen(unclear, err)
		}
	}
	if unclear {
		p.fail(e, "unclear", "", fmt.Sprintf("the system gave no clear answer %d times, and the account is as it was", maxAttempts))
		return nil
	}
	e.Find(account.Error, "stale", "", "", "the account kept changing while it was to be changed")
	p.refuse(e)
	return nil
}

func (p *Post) changed(e *batch.Entry, now account.Account) {
	e.Did, e.Version = e.Intent.Comes(), now.Version
	e.Settle()
}

// remove removes the entry's account. One that is gone already is as it should be.
func (p *Post) remove(ctx context.Context, e *batch.Entry) error {
	remover, ok := p.System.(system.Remover)
	if !ok {
		p.fail(e, "system-refused", "", "the accounts of this system cannot be removed")
		return nil
	}
	known := account.Account{ID: e.Account, Version: e.Version, Fields: e.Known}
	unclear := false
	for range maxAttempts {
		now, err := p.System.Get(ctx, e.Account, p.fields())
		if err == nil {
			if field, before, after, differs := difference(p.Batch.Fields, e.Known, now); differs {
				p.stale(e, field, before, after)
				return nil
			}
			known.Version = now.Version
			err = remover.Remove(ctx, known)
		} else if unclear && !errors.Is(err, system.ErrGone) {
			return &system.Unclear{Err: err}
		}
		var refusal *system.Refusal
		switch {
		case err == nil, errors.Is(err, system.ErrGone):
			e.Did = account.Removed
			e.Settle()
			return nil
		case isOpen(err):
			unclear = true
		case errors.Is(err, system.ErrChanged):
		case errors.As(err, &refusal):
			p.fail(e, refusal.Code, refusal.Field, refusal.Message)
			return nil
		default:
			return stillOpen(unclear, err)
		}
	}
	p.fail(e, "unclear", "", fmt.Sprintf("the system gave no clear answer %d times, and the account is still there", maxAttempts))
	return nil
}

// settleChange reads the account and settles the entry if that is possible: it
// is stale, gone, or has been changed by a request whose answer was lost.
// Otherwise the account is as drafted and is returned.
func (p *Post) settleChange(ctx context.Context, e *batch.Entry, unclear bool) (settled bool, now account.Account, err error) {
	now, err = p.System.Get(ctx, e.Account, p.fields())
	switch {
	case errors.Is(err, system.ErrGone) && e.Intent == account.Remove:
		e.Did = account.Removed
		e.Settle()
		return true, now, nil
	case errors.Is(err, system.ErrGone):
		p.gone(e)
		return true, now, nil
	case err != nil && unclear:
		return false, now, &system.Unclear{Err: err}
	case err != nil:
		return false, now, err
	}
	if unclear && e.Intent != account.Remove && carriedOut(e.Changes, now) {
		p.changed(e, now)
		return true, now, nil
	}
	if field, before, after, differs := difference(p.Batch.Fields, e.Known, now); differs {
		p.stale(e, field, before, after)
		return true, now, nil
	}
	return false, now, nil
}

func (p *Post) stale(e *batch.Entry, field, before, after string) {
	e.Find(account.Error, "stale", field, "", fmt.Sprintf("since the draft %s changed from “%s” to “%s” in the system", field, before, after))
	p.refuse(e)
}

// carriedOut reports whether the account has what the changes would give it.
func carriedOut(changes []account.Change, now account.Account) bool {
	return !slices.ContainsFunc(changes, func(c account.Change) bool {
		return !batch.NamedField(c.Field).Same(c.After.Text(), now.Field(c.Field).Text())
	})
}

func difference(fields []string, known map[string]account.Value, now account.Account) (field, before, after string, differs bool) {
	for _, name := range fields {
		was, is := known[name].Text(), now.Field(name).Text()
		if was != is {
			return name, was, is, true
		}
	}
	return "", "", "", false
}

func (p *Post) gone(e *batch.Entry) {
	p.fail(e, "account-gone", "", fmt.Sprintf("the account %s is no longer in the system", e.Account))
}

func (p *Post) fail(e *batch.Entry, code, field, message string) {
	e.Find(account.Error, code, field, "", message)
	e.Outcome = account.Failed
	unsent(e)
}

func (p *Post) refuse(e *batch.Entry) {
	e.Outcome = account.Refused
	unsent(e)
}

// unsent marks the steps that will not be sent, as the account's own was not done.
func unsent(e *batch.Entry) {
	for i := range e.Steps {
		e.Steps[i].Result = membership.Unsent
	}
}

// settleOpen settles the steps that an earlier post left without a result: each
// is looked up in the system. What was not carried out waits again.
func (p *Post) settleOpen(ctx context.Context) error {
	open, err := p.Ledger.InFlight(ctx, p.Batch.ID)
	if err != nil || len(open) == 0 {
		return err
	}
	p.resent = map[int]bool{}
	// The newest may still be on their way to where they can be seen.
	newest := open[0].Sent
	for _, step := range open {
		if step.Sent.After(newest) {
			newest = step.Sent
		}
	}
	if wait := p.Settle - p.Now().Sub(newest); wait > 0 && slices.ContainsFunc(open, func(o ledger.InFlight) bool { return o.Entry.Intent == account.Create }) {
		select {
		case <-time.After(min(wait, p.Settle)):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if err := p.lookForOpen(ctx, open); err != nil {
		return err
	}
	settled := make([]ledger.Result, 0, len(open))
	for _, step := range open {
		e := step.Entry
		if e.Intent != account.Create {
			_, _, err = p.settleChange(ctx, &e, true)
		}
		if err != nil {
			break
		}
		p.resent[e.Row] = waits(&e)
		settled = append(settled, ledger.Result{Entry: e, Intent: step.Intent})
	}
	return errors.Join(p.Ledger.Record(context.WithoutCancel(ctx), p.Batch.ID, settled, p.Now()), err)
}
