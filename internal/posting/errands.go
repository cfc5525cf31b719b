package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/system"
)

// An errand is something that the system is asked for about one account: to make, change or remove it, to have it refer to
// another, to give it another password. The entry's own step and those that follow it are carried out alike: what may have been done is
// looked up before anything is sent again, and when no clear answer comes it is left open.
type errand interface {
	// state is how far it is.
	state() *progress
	// does is what is ordered, and account the identifier of whom it is about, where that is there.
	does() system.Verb
	account() string
	// touches are fields to be asked for besides those that the batch looks at.
	touches() []string
	// order is what is sent, of the account as it was seen last.
	order() (system.Order, error)
	// seen settles the entry by its account, or by why that could not be read, as far as this tells what became of it, or that
	// nothing may be sent.
	seen(ctx context.Context, known account.Account, err error) (next, error)
	// came settles the entry by the account as it is answered with, or by why not. An error means that the post cannot go on.
	came(ctx context.Context, known account.Account, err error) (next, error)
	// left settles the entry when it was sent as often as it is tried.
	left()
}

// progress is how far an errand is.
type progress struct {
	settled       bool
	look          bool // before it is sent
	unclear       bool // a request of ours may have been carried out
	before        bool // an earlier post left it open
	together      bool // it was sent with others
	tries         int
	earlier, sent sent // when requests of ours were sent: those before the last, and with it
}

func (p *progress) state() *progress { return p }

// next is how an errand goes on.
type next int

const (
	nextNothing next = iota // it is over
	nextSend                // it can be sent
	nextLook                // it is looked at before it is sent again
	nextUnclear             // the same, and it may have been carried out
	nextAnew                // it is another errand now, of which nothing was sent
	nextWait                // it is tried again as if it had not been, as the system does not show all of the new accounts yet
)

func (p *progress) goOn(n next) {
	switch n {
	case nextNothing:
		p.settled = true
	case nextLook:
		p.look = true
	case nextUnclear:
		p.look, p.unclear = true, true
	case nextAnew:
		*p = progress{before: p.before}
	case nextWait:
		p.tries = 0
	}
}

// carryOut carries errands out that go together, until it is clear what became of each. An error means that the post
// cannot go on; what became of those that are not settled is open if it is an Unclear.
func (p *run) carryOut(ctx context.Context, errands []errand) error {
	for {
		waits, err := p.lookAt(ctx, errands)
		if err != nil {
			return orOpen(errands, err)
		}
		var send, tried []errand
		for _, e := range errands {
			switch s := e.state(); {
			case s.settled:
			case s.tries < maxAttempts:
				send = append(send, e)
			default:
				tried = append(tried, e)
			}
		}
		if len(send) == 0 {
			for _, e := range tried {
				e.left()
			}
			return nil
		}
		if !waits {
			if waits, err = p.send(ctx, send); err != nil {
				return orOpen(errands, err)
			}
		}
		if waits && !p.unseen(ctx) && ctx.Err() != nil {
			return nil // it was stopped while it waited for that: nothing is known of it
		}
	}
}

// orOpen says with an error that it is open what became of errands, if of some it is.
func orOpen(errands []errand, err error) error {
	return stillOpen(slices.ContainsFunc(errands, func(e errand) bool { return !e.state().settled && e.state().unclear }), err)
}

// lookAt looks at the accounts of errands that need it, at those of many by few requests, and reports whether some have to wait.
func (p *run) lookAt(ctx context.Context, errands []errand) (waits bool, err error) {
	var makings []*making
	var known []errand
	var ids []string
	for _, e := range errands {
		if s := e.state(); s.settled || !s.look {
			continue
		}
		if m, is := e.(*making); is {
			makings = append(makings, m)
			continue
		}
		if known = append(known, e); e.state().tries == 0 {
			ids = append(ids, e.account())
		}
	}
	if err := p.lookForMade(ctx, makings); err != nil {
		return false, err
	}
	fields := p.fieldsOf(known)
	found, err := p.readTogether(ctx, ids, fields)
	if err != nil {
		return false, err
	}
	for _, e := range known {
		o, err := e.order()
		if err != nil {
			return false, err
		}
		now, there := found[e.account()]
		if !there || p.about.Can.Versions && now.Version != o.Known.Version { // what searches find may lag behind what is there
			now, err = p.System.Get(ctx, e.account(), fields)
		}
		n, err := e.seen(ctx, now, err)
		if e.state().goOn(n); err != nil {
			return false, err
		}
		waits = waits || n == nextWait
	}
	return waits, nil
}

// fieldsOf are those to be asked for about the accounts of errands.
func (p *run) fieldsOf(errands []errand) []string {
	fields := p.fields()
	for _, e := range errands {
		for _, name := range e.touches() {
			if !slices.Contains(fields, name) {
				fields = append(fields, name)
			}
		}
	}
	return fields
}

// readTogether reads accounts by few requests, where the system finds several by one. Not all need be among them, nor as they are now.
func (p *run) readTogether(ctx context.Context, ids, fields []string) (map[string]account.Account, error) {
	found := map[string]account.Account{}
	if len(ids) < 2 || p.about.Can.ByIDs() < 2 {
		return found, nil
	}
	for some := range slices.Chunk(ids, p.about.Can.ByIDs()) {
		for now, err := range p.System.Find(ctx, system.ByID, some, fields) {
			if errors.Is(err, system.ErrCannotFind) {
				return found, nil
			}
			if err != nil {
				return nil, err
			}
			found[now.ID] = now
		}
	}
	return found, nil
}

// send sends errands, and settles what can be settled by what came of them: first those of which all is well, so that nothing of it is lost
// when another has to be looked into and the system fails. It reports whether some have to wait.
func (p *run) send(ctx context.Context, errands []errand) (waits bool, err error) {
	alone := len(errands) == 1
	if !alone && slices.ContainsFunc(errands, func(e errand) bool { return e.state().tries > 0 }) { // with others it came to nothing
		return p.oneByOne(ctx, errands)
	}
	orders := make([]system.Order, len(errands))
	for i, e := range errands {
		if orders[i], err = e.order(); err != nil {
			return false, err
		}
	}
	began := p.Clock.Now()
	results, err := p.System.Apply(ctx, p.may, orders, p.fieldsOf(errands))
	var refusal *system.Refusal
	switch {
	case err != nil && alone:
		results = []system.Result{{Err: err}}
	case errors.As(err, &refusal), errors.Is(err, system.ErrGone): // not like this
		return p.oneByOne(ctx, errands)
	case err != nil && !isOpen(err):
		return false, err
	case err != nil: // each may have been carried out
		results = slices.Repeat([]system.Result{{Err: err}}, len(orders))
	case len(results) != len(orders):
		results = slices.Repeat([]system.Result{{Err: &system.Unclear{Err: fmt.Errorf("there were %d orders, and %d results came back", len(orders), len(results))}}}, len(orders))
	}
	for _, e := range errands {
		s := e.state()
		s.tries++
		s.together, s.earlier, s.sent = !alone, s.sent, s.sent.again(began)
		if !alone {
			s.sent = s.sent.again(p.Clock.Now())
		}
	}
	for _, well := range []bool{true, false} {
		var failed error
		for i, e := range errands {
			r := results[i]
			if (r.Err == nil) != well || failed != nil && !well {
				continue
			}
			if !alone && r.Err != nil && !system.IsOfOne(r.Err) && !isOpen(r.Err) { // whatever it is, it may have been done
				r.Err = &system.Unclear{Err: r.Err}
			}
			n, err := e.came(ctx, r.Account, r.Err)
			if e.state().goOn(n); err != nil && failed == nil {
				failed = err
			}
			waits = waits || n == nextWait
		}
		if failed != nil {
			return false, stillOpen(!alone, failed) // of the others it is not known
		}
	}
	return waits, nil
}

// oneByOne sends each of some errands by itself.
func (p *run) oneByOne(ctx context.Context, errands []errand) (waits bool, err error) {
	for i := range errands {
		wait, err := p.send(ctx, errands[i:i+1])
		if waits = waits || wait; err != nil {
			return waits, err
		}
	}
	return waits, nil
}

// inGroups has errands about the entries of a window carried out, as many together and side by side as the system takes.
func (p *run) inGroups(ctx context.Context, window []batch.Entry, does system.Verb, errandOf func(ctx context.Context, e *batch.Entry) (errand, error)) error {
	size := 1
	if p.goesTogether(does) {
		size = p.about.Can.AtOnce
	}
	group, sending := errgroup.WithContext(ctx)
	group.SetLimit(p.slots())
	for some := range slices.Chunk(window, size) {
		group.Go(func() error {
			if ctx.Err() != nil || sending.Err() != nil {
				return nil
			}
			var errands []errand
			for i := range some {
				e, err := errandOf(sending, &some[i])
				if err != nil {
					return err
				}
				if e != nil {
					errands = append(errands, e)
				}
			}
			return p.together(sending, errands)
		})
	}
	return group.Wait()
}

// goesTogether reports whether orders of a verb go with others. Accounts that are there are looked at together as well.
func (p *run) goesTogether(does system.Verb) bool {
	can := p.about.Can
	return can.AtOnce > 1 && slices.Contains(can.Together, does) && (does == system.Creates || does == system.Renews || can.ByIDs() > 1)
}

// together carries out errands. In requests of many not every server holds a change against the version that is named: accounts that
// are changed so are looked at just before.
func (p *run) together(ctx context.Context, errands []errand) error {
	for _, e := range errands {
		if len(errands) > 1 && (e.does() == system.Changes || e.does() == system.Removes) {
			e.state().look = true
		}
	}
	return p.carryOut(ctx, errands)
}

// sent says when requests of ours that may have done something were sent.
type sent struct {
	first, last time.Time
}

func (s sent) any() bool { return !s.first.IsZero() }

func (s sent) again(now time.Time) sent {
	if s.first.IsZero() {
		s.first = now
	}
	s.last = now
	return s
}

// isOpen reports whether an error leaves it open what became of the request.
func isOpen(err error) bool {
	var unclear *system.Unclear
	return errors.As(err, &unclear)
}

// stillOpen keeps it open what became of an earlier request when the one that
// followed could not be sent.
func stillOpen(unclear bool, err error) error {
	if unclear {
		return &system.Unclear{Err: err}
	}
	return err
}
