// Package posting carries a batch out: first what is to be done with the accounts
// themselves, then the fields that refer to accounts the batch made, then the
// passwords of accounts that were there, then the memberships, then what is done
// elsewhere about it, and last the mails about what was done.
//
// It promises that an account's request is noted in the ledger before it is sent
// and its result after, so that whenever it is stopped or killed, a further post
// goes on where it was: nothing is left out and nothing is done twice. When nothing can
// be noted any more, nothing more is sent. A step whose result is not in the ledger, or
// not clear, is looked up in the system before anything is sent again, and what is found
// there is taken for the batch's own only if it can be. An entry whose account changed
// since the draft is refused as stale. The guards (limits, protected accounts, another
// address or another system there, passwords that nobody would get) stand here, so that
// no way in passes them by.
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

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/clock"
	"evenledger/internal/feed"
	"evenledger/internal/keyset"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/pace"
	"evenledger/internal/presence"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Sizes of what is noted together. A block is claimed before its requests are sent;
// results are committed a moment after they come.
const (
	blockSize   = 64                    // at first, and where the system takes its time
	mostClaimed = 512                   // in one block
	blockTime   = 50 * time.Millisecond // for which a block shall last
	resultSize  = 512                   // at most
	resultDelay = 25 * time.Millisecond
	firstLook   = 1000             // entries whose accounts are looked up before sending begins
	lookAhead   = 8000             // entries whose accounts are looked up together after that
	lookAgain   = 10 * time.Minute // after which they are looked up again
	maxAttempts = 3                // at a request whose answer stays unclear
)

// A Post is how one batch is to be carried out.
type Post struct {
	Ledger   store.Posts
	System   system.System
	Batch    *batch.Batch
	Worker   store.Worker  // this process
	Together int           // requests in flight
	Shared   bool          // all workers together have no more in flight than that
	Crowd    *pace.Crowd   // is told how many share the system's rate; may be nil
	URL      string        // at which System is
	Settle   time.Duration // how long a new account may stay unseen
	Timeout  time.Duration // how long one request may take
	Trial    int           // stop after this many entries; 0: carry all out
	Protect  []string      // patterns of accounts that are not changed, besides the batch's
	HandsOut bool          // generated passwords are handed out afterwards
	Helps    bool          // another began it, and hands them out
	Vault    *secret.Vault // opens passwords; nil: the batch has none
	// Approved returns why a second person has not approved of the batch who has to, and Free why
	// another batch has taken what this one is made of. They may be nil.
	Approved, Free func(context.Context, *batch.Batch) error
	// Endorse signs what became of a batch, as who posted it; it may be nil.
	Endorse func(ctx context.Context, id int) error

	Mask  *secret.Mask // takes secrets out of what is noted; may be nil
	Clock clock.Clock
	// Do does a follow-up where a feed is.
	Do        func(ctx context.Context, feed string, order feed.Order) error
	Mail      *mail.Server // sends mails; nil: nothing says how
	HoldMails bool         // mails are kept until a person sends them
	Unproven  bool         // what was done is not read back
	Later     bool         // the system takes files, and carries out later what is in them
	// Settles has Run find out what became of what was handed over, and hand over nothing new; nil: it hands over.
	Settles *Settlement
	// SettleOnly has Run find out what became of what was sent, and send nothing new.
	SettleOnly bool
	Progress   func(stage string, done, total int) // may be nil
	// Waiting is told until when what the system does not show yet is looked at again, if that takes a while; may be nil.
	Waiting func(until time.Time)
}

// Run carries out the entries that wait. It returns when all are done, the trial
// is over, ctx is done (after the requests in flight have ended) or the system
// can no longer be used; the error says which. What may not be done at all is a
// *batch.Guard, and then nothing was. Others may post the same batch at the same time: they
// share the work.
func (p *Post) Run(ctx context.Context) error {
	if err := p.May(ctx); err != nil {
		return err
	}
	about, err := p.System.Describe(ctx)
	if err != nil {
		return err
	}
	last, err := presence.Join(ctx, p.Ledger.Lease(p.Batch.ID, p.Worker), p.Worker.Term, p.Crowd, func(ctx context.Context, at *presence.Presence) error {
		if others := at.Crew().Others; len(others) > 0 && p.Trial > 0 {
			return &batch.Guard{Message: fmt.Sprintf("batch %d is being posted by %s, and more than a trial is under way", p.Batch.ID, strings.Join(others, " and ")), Remedy: "Post it without --trial to share the work."}
		}
		if about.Can.Rate > 0 || p.Shared { // else nothing says that there is less for each, the more they are
			if err := at.Known(ctx); err != nil {
				return err
			}
		}
		// What changes something is sent only while the work is this worker's: a process may be stopped at any moment, and wake much later.
		return newRun(p, about, at).all(ctx)
	})
	if last {
		err = errors.Join(err, p.halted(context.WithoutCancel(ctx)))
	}
	if last || !p.Helps {
		err = errors.Join(err, p.endorse(context.WithoutCancel(ctx)))
	}
	return err
}

// endorse has what became of the batch signed, and what became of one that it undoes.
func (p *Post) endorse(ctx context.Context) error {
	if p.Endorse == nil {
		return nil
	}
	err := p.Endorse(ctx, p.Batch.ID)
	if err == nil && p.Batch.Reverses > 0 && p.Batch.State == batch.Posted {
		err = p.Endorse(ctx, p.Batch.Reverses)
	}
	return err
}

// halted notes that nobody posts the batch any more, if it is not done.
func (p *Post) halted(ctx context.Context) error {
	b, err := p.Ledger.Batch(ctx, p.Batch.ID)
	if err != nil {
		return err
	}
	if b.State == batch.Posting {
		if b.State, err = p.rests(ctx); err != nil {
			return err
		}
		if err = p.Ledger.Save(ctx, b); errors.Is(err, store.ErrChanged) {
			return nil // somebody goes on already
		}
	}
	*p.Batch = *b
	return err
}

// rests is the state in which a batch is left that nobody posts any more.
func (p *Post) rests(ctx context.Context) (batch.State, error) {
	counts, waiting, err := p.Ledger.Counts(ctx, p.Batch.ID)
	if len(waiting) == 0 && counts.Elsewhere() > 0 {
		return batch.Handed, err
	}
	return batch.Stopped, err
}

// A run is one time that a worker carries a batch out.
type run struct {
	*Post

	at      *presence.Presence
	may     system.Permit // whether anything may be sent: others may have the work by now
	part    store.Part    // that is carried out now
	waiting int           // entries that waited when the worker began
	about   *system.Description
	again   bool        // an earlier post of the batch may have sent something
	made    atomic.Bool // an account was created
	seen    time.Time   // until then accounts that were created may stay unseen
	results chan store.Result

	place   account.Field     // that says where in a directory an account stands
	noPlace map[string]string // places that could not be made, by key, and why
	moving  map[string]bool   // accounts that the batch itself may have called otherwise

	removing map[string]bool // accounts that the batch removes; nil: nobody asked yet

	telling sync.Once // that it is waited
	asking  sync.Once
	asked   []string     // fields that are asked for
	resent  map[int]sent // rows whose request an earlier post may have had carried out
	checked bool         // that known accounts are still whose they were

	glance      *glance    // at all accounts, if there was one
	counting    sync.Mutex // over what follows
	stage       string
	begun       time.Time // the stage
	own         int       // that this worker did of it
	done, total int
	left        map[int]bool // rows of which it was left open what became of them
	withheld    map[int]bool // rows whose generated password nobody gets
	unsent      int          // mails that the server did not take yet
	unclear     int          // memberships of which it is open what became of them

	kept    map[int]batch.Entry // what this worker wrote down, while it is not more than mostKept
	wrote   *keyset.Set         // the accounts of all that it wrote down, with their rows; nil: they are being read back
	answers bool                // an answer that shows an account whole may stand for reading it back
}

func newRun(p *Post, about *system.Description, at *presence.Presence) *run {
	return &run{Post: p, at: at, may: at.May, about: about, left: map[int]bool{}, withheld: map[int]bool{}, resent: map[int]sent{}, kept: map[int]batch.Entry{}, wrote: keyset.New()}
}

// all does the worker's share of every stage.
func (p *run) all(ctx context.Context) (err error) {
	if err := p.recognise(ctx); err != nil {
		return err
	}
	if err := p.tellMoving(ctx); err != nil {
		return err
	}
	if p.about.Can.Moves {
		if p.moving, err = p.Ledger.Changing(ctx, p.Batch.ID); err != nil {
			return err
		}
	}
	if _, waiting, err := p.Ledger.Counts(ctx, p.Batch.ID); err != nil {
		return err
	} else if waiting[account.Remove] > 0 {
		if _, err := p.removes(ctx, ""); err != nil {
			return err
		}
	}
	if err := p.share(ctx, opening, 0, p.start); err != nil {
		return err
	}
	if err := p.reload(ctx); err != nil { // another may have opened it
		return err
	}
	if p.again = p.Batch.Posts > 1; p.again {
		p.seen = p.Clock.Now().Add(p.Settle)
	}
	p.HoldMails = p.Batch.HoldMails // as who began it said
	p.setPlaces()
	if err := p.stages(ctx); err != nil {
		return err
	}
	if err := p.share(ctx, closing, 0, p.finish); err != nil {
		return err
	}
	if err := errors.Join(p.reload(ctx), p.notSent()); err != nil {
		return err
	}
	if n := len(p.left) + p.unclear; n > 0 && !p.SettleOnly {
		return &system.Unclear{Err: fmt.Errorf("what became of %d of the requests could not be found out yet", n)}
	}
	return nil
}

// start notes that the batch is being posted, and does what comes before all accounts.
func (p *run) start(ctx context.Context) error {
	if err := p.reload(ctx); err != nil {
		return err
	}
	unlock, err := p.chosen(ctx)
	if err != nil {
		return err
	}
	if err := errors.Join(p.note(ctx), unlock()); err != nil {
		return err
	}
	if err := p.askAfter(ctx); err != nil || p.SettleOnly {
		return err
	}
	if err := p.whole(ctx, p.Batch.Begin, &p.Batch.Begun, "beginning"); err != nil {
		return err
	}
	return p.makePlaces(ctx)
}

// chosen waits while another batch of the same feed is being opened: of those that were made of one
// delivery, just one takes it.
func (p *run) chosen(ctx context.Context) (unlock func() error, err error) {
	if p.Batch.Delivery == nil {
		return func() error { return nil }, nil
	}
	for {
		unlock, err := p.Ledger.Lock("feed-" + p.Batch.Delivery.Feed)
		if !errors.Is(err, store.ErrBusy) {
			return unlock, err
		}
		if clock.Real().Wait(ctx, pollingTime) != nil {
			return nil, context.Cause(ctx)
		}
	}
}

// note sees once more that nobody was faster, and notes that the batch is being posted.
func (p *run) note(ctx context.Context) error {
	if err := p.Batch.MayPost(p.URL); err != nil {
		return err
	}
	if p.Free != nil {
		if err := p.Free(ctx, p.Batch); err != nil {
			return err
		}
	}
	p.Batch.State, p.Batch.Posted, p.Batch.HoldMails = batch.Posting, p.Clock.Now(), p.HoldMails
	p.Batch.Posts++
	return p.Ledger.Save(ctx, p.Batch)
}

// finish does what comes after all entries, and notes how far it came.
func (p *run) finish(ctx context.Context) error {
	if err := p.reload(ctx); err != nil {
		return err
	}
	// What follows must be noted though the context may be over.
	after := context.WithoutCancel(ctx)
	counts, waiting, err := p.Ledger.Counts(after, p.Batch.ID)
	if err != nil {
		return err
	}
	proofs, err := p.Ledger.Proofs(after, p.Batch.ID)
	if err != nil {
		return err
	}
	p.Batch.Reading.Sum(proofs)
	if p.Batch.Reading.MayEnter, err = p.mayEnter(after, p.Batch.Reading.Wrong); err != nil {
		return err
	}
	if p.Batch.Reading.Left = p.Unproven && p.Batch.Reading.Open > 0; !p.Unproven {
		p.Batch.Reading.At = p.Clock.Now()
	}
	p.Batch.State = batch.Stopped
	over := !p.SettleOnly && len(waiting)+counts.Elsewhere() == 0 && (p.Unproven || p.Batch.Reading.Open == 0)
	if over {
		err = p.whole(after, p.Batch.End, &p.Batch.Ended, "end")
	}
	if over && !p.Batch.WaitsAround() {
		p.Batch.State = batch.Posted
	}
	if len(waiting) == 0 && counts.Elsewhere() > 0 {
		p.Batch.State = batch.Handed
	}
	err = errors.Join(err, p.Ledger.Save(after, p.Batch))
	if err == nil && len(p.Batch.Unmakes) > 0 && p.Batch.State == batch.Posted {
		err = p.unmake(after)
		err = errors.Join(err, p.Ledger.Save(after, p.Batch))
	}
	if err == nil && p.Batch.Reverses > 0 && p.Batch.Taken == "" && p.Batch.State == batch.Posted && counts.Bad() == 0 {
		err = p.reversed(after)
	}
	return err
}

// May returns why the batch may not be posted like this, or nil. Run asks, too.
func (p *Post) May(ctx context.Context) error {
	if err := p.Batch.MayPost(p.URL); err != nil {
		return err
	}
	for _, ask := range []func(context.Context, *batch.Batch) error{p.Free, p.Approved} {
		if ask == nil {
			continue
		}
		if err := ask(ctx, p.Batch); err != nil {
			return err
		}
	}
	if p.Batch.Reverses > 0 && p.Batch.Posted.IsZero() {
		of, err := p.Ledger.Batch(ctx, p.Batch.Reverses)
		if err != nil {
			return err
		}
		if of.Posts != p.Batch.After {
			return &batch.Guard{Message: fmt.Sprintf("batch %d was posted on since batch %d was drafted to undo it, so that not all of it would be undone", of.ID, p.Batch.ID), Remedy: fmt.Sprintf("Withdraw batch %d, and undo batch %d anew.", p.Batch.ID, of.ID)}
		}
	}
	mails, err := p.Ledger.Steps(ctx, p.Batch.ID, membership.Notify)
	if err != nil {
		return err
	}
	if p.SettleOnly {
		return nil
	}
	if !p.HoldMails && !p.Helps && slices.ContainsFunc(mails, func(c store.StepCount) bool { return c.Result == "" || c.Result == membership.Queued }) {
		if err := p.mayMail(); err != nil {
			return err
		}
	}
	if p.Batch.Secrets == "" {
		return nil
	}
	kept, err := p.Ledger.Passwords(p.Batch.ID).Count(ctx)
	if err != nil {
		return err
	}
	if kept.Waiting > 0 && !p.HandsOut && !p.Helps && !p.Later {
		return &batch.Guard{Message: fmt.Sprintf("batch %d makes passwords for %d accounts, and nothing says where they go", p.Batch.ID, kept.Waiting), Remedy: "Give --credentials FILE with --to KEY or --passphrase env:NAME."}
	}
	if kept.Given+kept.Waiting+kept.Mailed == 0 {
		return nil
	}
	if err := p.Vault.Check(); err != nil {
		return &batch.Guard{Message: fmt.Sprintf("the passwords of batch %d cannot be opened: %s", p.Batch.ID, err), Remedy: "Put the key back where it was, or withdraw the batch and draft its sheet again."}
	}
	return nil
}

// recognise sees that the accounts which were there when the batch was drafted are still
// whose they were: numbers are given anew where another system was put in place.
func (p *run) recognise(ctx context.Context) error {
	right, wrong, gone := 0, 0, 0
	why := "no account that was there is there any more"
	for _, w := range p.Batch.Witnesses {
		now, err := p.System.Get(ctx, w.ID, append(w.FieldNames(), p.about.Naming))
		var refusal *system.Refusal
		switch {
		case errors.As(err, &refusal): // it tells nothing
		case errors.Is(err, system.ErrGone):
			ours, err := p.removes(ctx, w.ID)
			if err != nil {
				return err
			}
			if !ours { // else it tells nothing
				gone++
			}
		case err != nil:
			return err
		case batch.Stranger(p.about.Schema, w.Fields, &now, p.Batch.Match):
			wrong++
			why = fmt.Sprintf("the account %s was %s, and is %s now", w.ID, w.Label(), now.Label())
		default:
			right++
		}
	}
	if wrong > right || right == 0 && gone > 1 {
		return p.Batch.OtherSystem(why)
	}
	return nil
}

// removes reports whether the batch itself removes an account, or has.
func (p *run) removes(ctx context.Context, id string) (bool, error) {
	if p.removing == nil {
		p.removing = map[string]bool{}
		for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{}) {
			if err != nil {
				return false, err
			}
			if e.Intent == account.Remove || e.Did == account.Removed {
				p.removing[e.Account] = true
			}
		}
	}
	return p.removing[id], nil
}

// reversed notes that the batch which this one undoes is undone.
func (p *run) reversed(ctx context.Context) error {
	of, err := p.Ledger.Batch(ctx, p.Batch.Reverses)
	if err != nil {
		return err
	}
	of.State = batch.Reversed
	return p.Ledger.Save(ctx, of)
}

// stages carries out the accounts' own steps first, then what refers to accounts, then
// passwords, then the memberships, and then what goes out.
func (p *run) stages(ctx context.Context) (err error) {
	if p.waiting, err = p.Ledger.Count(ctx, p.Batch.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true}); err != nil {
		return err
	}
	does, err := p.Ledger.Does(ctx, p.Batch.ID)
	if err != nil {
		return err
	}
	total := p.waiting
	if p.Trial > 0 {
		total = min(total, p.Trial)
	}
	if !p.Unproven && p.waiting > 0 {
		if p.answers, err = p.byAnswers(ctx, p.waiting, p.waiting); err != nil {
			return err
		}
	}
	if p.Later {
		return p.later(ctx, does, total)
	}
	p.begin("accounts", total)
	if err := p.share(ctx, ofAccounts, p.Trial, func(ctx context.Context) error {
		if err := p.settleOpen(ctx); err != nil || p.SettleOnly {
			return err
		}
		return p.recorded(ctx, p.accounts)
	}); err != nil {
		return err
	}
	return p.following(ctx, does, []work{
		{ofNames, []membership.Verb{membership.Stay}, p.names},
		{ofReown, []membership.Verb{membership.Reown}, p.reown},
		{ofReferring, []membership.Verb{membership.Refer}, p.references},
		{ofPasswords, []membership.Verb{membership.Renew}, p.passwords},
		{ofTies, membership.Ties(), p.memberships},
		{ofProof, nil, p.prove},
		{ofFollowing, []membership.Verb{membership.Follow}, p.followUps},
		{ofMails, []membership.Verb{membership.Notify}, p.mails},
	})
}

// later has an application that takes files be handed what is to be done, or finds out what became of it.
func (p *run) later(ctx context.Context, does []membership.Verb, total int) error {
	if p.Settles == nil {
		p.begin("handed over", total)
		return p.share(ctx, ofHanding, 0, p.handOver)
	}
	if err := p.share(ctx, ofSettling, 0, p.settleHanded); err != nil {
		return err
	}
	return p.following(ctx, does, []work{{ofProof, nil, p.prove}, {ofFollowing, []membership.Verb{membership.Follow}, p.followUps}, {ofMails, []membership.Verb{membership.Notify}, p.mails}})
}

// work is a stage that follows when the accounts' own steps are done.
type work struct {
	stage store.Stage
	does  []membership.Verb // the stage is for; nil: for any
	do    func(context.Context, func(error)) error
}

// following does stages one after the other, those of which there is something to do.
func (p *run) following(ctx context.Context, does []membership.Verb, stages []work) error {
	for _, s := range stages {
		if s.stage == ofProof && p.Unproven || p.SettleOnly && s.stage != ofTies && s.stage != ofProof {
			continue
		}
		if s.does != nil && !slices.ContainsFunc(s.does, func(v membership.Verb) bool { return slices.Contains(does, v) }) {
			continue
		}
		if err := p.share(ctx, s.stage, 0, func(ctx context.Context) error { return p.recorded(ctx, s.do) }); err != nil {
			return err
		}
	}
	return nil
}

// recorded runs a stage while its results are written down.
func (p *run) recorded(ctx context.Context, stage func(context.Context, func(error)) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	p.results = make(chan store.Result, resultSize)
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
func (p *run) accounts(ctx context.Context, stop func(error)) error {
	if len(p.at.Crew().Others) > 0 { // they do some of it
		open, err := p.Ledger.Count(ctx, p.Batch.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true})
		if err != nil {
			return err
		}
		p.reached(p.waiting - open)
	}
	// The next block is noted while this one is sent. What is noted and not sent
	// has to be looked up if the post is killed, so it is no more than that.
	ready := make(chan []store.Result, blockSize/max(1, p.about.Can.AtOnce)+1)
	var workers sync.WaitGroup
	// A few more than requests may be under way, which the system sees to, make theirs ready
	// or read what came.
	hands := p.slots()
	for range hands + hands/2 {
		workers.Go(func() {
			for group := range ready {
				open := false // noted as on their way
				if ctx.Err() == nil {
					if err := p.carryOutAll(ctx, group); err != nil {
						stop(err)
						open = isOpen(err)
					}
				}
				for _, r := range group {
					if !waits(&r.Entry) {
						p.advance(1)
					}
					switch {
					case r.Entry.Outcome.IsElsewhere():
						p.results <- store.Result{Entry: r.Entry} // what was intended stays open
					case !waits(&r.Entry):
						p.results <- r
					case p.isLeft(r.Entry.Row):
						p.results <- store.Result{Entry: r.Entry} // what was intended stays open
					case !open:
						p.results <- r
					}
				}
			}
		})
	}
	err := p.feed(ctx, ready)
	close(ready)
	workers.Wait()
	if p.made.Load() {
		p.seen = p.Clock.Now().Add(p.Settle)
	}
	return err
}

// unseen waits a moment if accounts that were created may still be unseen, and
// reports whether they may: what is refused for that is worth another try.
func (p *run) unseen(ctx context.Context) bool {
	left := p.seen.Sub(p.Clock.Now())
	if left <= 0 {
		return false
	}
	p.waits(left)
	return p.Clock.Wait(ctx, min(left, 200*time.Millisecond)) == nil
}

// mayBeUnseen reports whether accounts that were created may still be unseen.
func (p *run) mayBeUnseen() bool { return p.Clock.Now().Before(p.seen) }

// waits reports whether the entry's account's own step is still to be done.
func waits(e *batch.Entry) bool { return e.Outcome.Waits() && e.Did == "" }

// record writes results down in small groups.
func (p *run) record(ctx context.Context, stop func(error)) error {
	var group []store.Result
	var failed error
	write := func() {
		if failed != nil || len(group) == 0 {
			return // the steps stay noted as sent, and are looked up the next time
		}
		if failed = p.settle(ctx, group); failed != nil {
			stop(failed)
		}
		if p.Batch.Secrets != "" && failed == nil {
			if failed = p.wipe(ctx, group); failed != nil {
				stop(failed)
			}
		}
		p.keep(group)
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
			for i := range r.Entry.Findings { // a system may say anything, a password as well
				r.Entry.Findings[i].Message = p.Mask.Told(r.Entry.Findings[i].Message)
			}
			if group = append(group, r); len(group) == resultSize {
				write()
			}
		case <-tick.C:
			write()
		}
	}
}

// mostKept is of how many entries is kept what was written down of them.
const mostKept = 5000

// keep keeps what was written down: to read it back, the ledger need not be read once more.
func (p *run) keep(group []store.Result) {
	for _, r := range group {
		if r.Entry.Did != "" && p.wrote != nil {
			p.wrote.Add(r.Entry.Account, r.Entry.Row)
		}
		if p.kept == nil || len(p.kept) == mostKept && p.kept[r.Entry.Row].Did == "" {
			p.kept = nil
			continue
		}
		if r.Entry.Did != "" {
			r.Entry.Secret = ""
			p.kept[r.Entry.Row] = r.Entry
		}
	}
}

// resultOf is what became of an entry by now. Its steps may go on while it is written down.
func resultOf(e *batch.Entry) store.Result {
	now := *e
	now.Steps, now.Findings = slices.Clone(e.Steps), slices.Clone(e.Findings)
	return store.Result{Entry: now}
}

// begin begins to count the work of a stage.
func (p *run) begin(stage string, total int) {
	p.counting.Lock()
	defer p.counting.Unlock()
	p.stage, p.done, p.total = stage, 0, total
	p.begun, p.own = p.Clock.Now(), 0
}

// reached tells how many are done, by all workers together.
func (p *run) reached(n int) {
	p.counting.Lock()
	defer p.counting.Unlock()
	p.done = min(max(n, p.done), p.total)
}

// advance tells that n more are done.
func (p *run) advance(n int) {
	p.counting.Lock()
	defer p.counting.Unlock()
	p.own += n
	if p.done = min(p.done+n, p.total); p.Progress != nil && p.total > 0 {
		p.Progress(p.stage, p.done, p.total)
	}
}

// wipe takes away the given passwords that are set or will not be, and those that nobody
// gets.
func (p *run) wipe(ctx context.Context, group []store.Result) error {
	var rows []int
	for _, r := range group {
		sent := !waits(&r.Entry) && !r.Entry.Outcome.IsElsewhere() && stepOf(&r.Entry, membership.Renew) == nil
		told := slices.ContainsFunc(r.Entry.Steps, func(s membership.Step) bool {
			return s.Do == membership.Notify && s.Tells && s.Result == membership.Done
		})
		if toTell := slices.ContainsFunc(r.Entry.Steps, membership.Step.HoldsPassword); toTell {
			continue
		}
		if told {
			rows = append(rows, r.Entry.Row)
			continue
		}
		if r.Entry.Secret != "" && sent && (secret.IsGiven(r.Entry.Secret) || p.isWithheld(r.Entry.Row)) {
			rows = append(rows, r.Entry.Row)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return p.Ledger.Passwords(p.Batch.ID).Wipe(ctx, rows)
}

func (p *run) isWithheld(row int) bool {
	p.counting.Lock()
	defer p.counting.Unlock()
	return p.withheld[row]
}
