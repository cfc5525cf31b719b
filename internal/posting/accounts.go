package posting

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// takenIn returns the error of a system that said that it took a request in, which it may carry out at any time; nil: it is none.
func takenIn(err error) *system.Unclear {
	var unclear *system.Unclear
	if errors.As(err, &unclear) && unclear.TakenIn {
		return unclear
	}
	return nil
}

// keys are the fields and values by which the entry's account is found.
func (p *run) keys(e batch.Entry) map[string]string {
	keys := map[string]string{}
	for _, change := range e.Changes {
		if change.After.Filled() && (slices.Contains(p.Batch.Match, change.Field) || slices.Contains(p.Batch.Numbers, change.Field)) {
			keys[change.Field] = change.After.Text()
		}
	}
	return keys
}

// fields are those to be asked for: what the batch looks at, and what tells accounts
// apart.
func (p *run) fields() []string {
	p.asking.Do(func() {
		all := slices.Concat([]string{p.about.Naming}, p.Batch.Fields, p.Batch.Match)
		p.asked = slices.Clip(slices.Compact(slices.Sorted(slices.Values(all))))
	})
	return p.asked
}

// errandOf is the errand of an entry's own step; nil: the entry is settled without.
func (p *run) errandOf(e *batch.Entry) errand {
	if p.hasNoPlace(e) {
		return nil
	}
	resent := p.resent[e.Row]
	progress := progress{look: resent.any(), unclear: resent.any(), before: wasOpen(e), sent: resent}
	if e.Intent == account.Create {
		return &making{p: p, e: e, progress: progress}
	}
	name, protected := p.protected(e, nil)
	switch {
	case protected:
		p.refuseProtected(e, name)
	case onlySteps(e): // that nobody changed the account was seen
		e.Did = e.Intent.Comes()
		e.Settle()
	case e.Intent == account.Remove && !p.about.Can.Removes:
		p.fail(e, account.SystemRefused, "", "the accounts of this system cannot be removed")
	default:
		progress.look = progress.look || e.Intent == account.Remove || e.Version == "" || !p.about.Can.Versions
		return &changing{p: p, e: e, progress: progress, version: e.Version}
	}
	return nil
}

// protected reports whether the entry's account is one that no batch may change, as it
// was drafted or as it is now.
func (p *run) protected(e *batch.Entry, now *account.Account) (name string, is bool) {
	patterns := slices.Concat(p.Batch.Protect, p.Protect)
	known := &account.Account{ID: e.Account, Fields: e.Known}
	for _, a := range []*account.Account{known, now} {
		if a != nil && batch.Protects(p.about.Schema, patterns, a) {
			return a.Label(), true
		}
	}
	return "", false
}

func (p *run) refuseProtected(e *batch.Entry, name string) {
	e.Find(account.Error, account.ProtectedAccount, "", "", fmt.Sprintf("the account %s is protected", name))
	p.refuse(e)
}

// sentOf is when the request of an earlier post was sent. One that the system took in may be carried out at any time until now.
func (p *run) sentOf(f store.InFlight) sent {
	if f.Entry.Outcome.IsElsewhere() {
		return sent{f.First, p.Clock.Now()}
	}
	return sent{f.First, f.Sent}
}

// A making has an account made. An earlier request of ours may have made it.
type making struct {
	progress
	p     *run
	e     *batch.Entry
	taken *system.Unclear // the system took it in, to carry it out later; nil: it did not
}

func (m *making) does() system.Verb { return system.Creates }
func (m *making) account() string   { return "" }
func (m *making) touches() []string { return nil }

func (m *making) order() (system.Order, error) {
	wanted, err := m.p.wantedOf(m.e)
	return system.Order{Does: system.Creates, Wanted: wanted}, err
}

// lookForMade looks for the accounts of makings that may have been made.
func (p *run) lookForMade(ctx context.Context, makings []*making) error {
	if len(makings) == 0 {
		return nil
	}
	var entries []*batch.Entry
	of, patience := map[*batch.Entry]*making{}, time.Duration(0)
	for _, m := range makings {
		if entries, of[m.e] = append(entries, m.e), m; m.tries > 0 { // else it was sent by an earlier post
			patience = p.Settle
		}
	}
	missing, err := p.lookForAll(ctx, entries, func(e *batch.Entry) sent { return of[e].sent }, patience)
	for _, m := range makings {
		m.settled = !slices.Contains(missing, m.e)
		if !m.settled && err == nil && m.taken != nil {
			p.leaveTaken(m.e, m.taken)
			m.settled = true
		}
	}
	return err
}

// seen is for accounts that are there.
func (m *making) seen(context.Context, account.Account, error) (next, error) { return nextSend, nil }

func (m *making) came(ctx context.Context, made account.Account, err error) (next, error) {
	var refusal *system.Refusal
	switch {
	case err == nil && m.together && len(made.Fields) == 0:
		m.p.created(m.e, made) // the answer need not show it, and was to just this request
		return nextNothing, nil
	case err == nil:
		return nextNothing, m.p.answered(ctx, m.e, made, m.sent)
	case isOpen(err):
		m.taken = takenIn(err)
		return nextUnclear, nil
	case errors.As(err, &refusal):
		return m.p.notCreated(ctx, m.e, refusal, m.earlier, m.sent)
	case errors.Is(err, system.ErrGone):
		m.p.fail(m.e, account.SystemRefused, "", "the system has no place to create accounts in")
		return nextNothing, nil
	case m.together: // whatever else it is, the account may be there
		return nextUnclear, nil
	}
	return nextSend, stillOpen(m.unclear, err)
}

func (m *making) left() {
	m.p.leave(m.e, m.before, fmt.Sprintf("the system gave no clear answer %d times, and no such account has appeared within %s", maxAttempts, m.p.Settle))
}

// notCreated settles an entry whose account the system refused to make. What is taken
// may be so by an earlier request of ours, of which somebody on the way to the system
// may have made two as well.
func (p *run) notCreated(ctx context.Context, e *batch.Entry, refusal *system.Refusal, earlier, now sent) (next, error) {
	before := wasOpen(e)
	if shows, agrees := p.agrees(refusal.By, e); refusal.Code == account.TakenValue && (!shows || agrees) { // else somebody else is seen to have it
		patience := time.Duration(0)
		if earlier.any() {
			patience = p.Settle
		}
		found, err := p.seek(ctx, []*batch.Entry{e}, patience)
		if err != nil && !earlier.any() {
			err = nil // the system said no, and that stands
		}
		if err != nil {
			return nextSend, err
		}
		a, there := found[e]
		switch {
		case there && !a.Made.IsZero() && p.ours(a, e, now):
			if earlier.any() {
				lacks, err := p.fillUp(ctx, e, a)
				if err != nil {
					return nextSend, err
				}
				if lacks {
					p.lacking(e, a)
					return nextNothing, nil
				}
			}
			p.created(e, a)
			if !earlier.any() || !p.about.Can.Piecemeal {
				p.withhold(e) // a colleague at the same sheet may have been faster
			}
			return nextNothing, nil
		case !there && earlier.any():
			p.leave(e, before, fmt.Sprintf("a request of this batch seems to have made the account, and the system does not show it within %s, the “settle” of evenledger.yaml; to a second request it said: %s", p.Settle, refusal.Message))
			return nextNothing, nil
		}
	}
	if another, err := p.remade(ctx, e, refusal); err != nil || another {
		return nextAnew, err
	}
	p.fail(e, refusal.Code, refusal.Field, refusal.Message)
	return nextNothing, nil
}

// answered settles an entry whose account the system says it made. That it is the
// entry's, its keys have to show: answers have been mixed up before, on the way and in
// caches.
func (p *run) answered(ctx context.Context, e *batch.Entry, made account.Account, now sent) error {
	shows, agrees := p.agrees(made, e)
	if !shows {
		seen, err := p.System.Get(ctx, made.ID, p.fields())
		switch {
		case errors.Is(err, system.ErrGone): // not to be seen yet
		case err != nil:
			return &system.Unclear{Err: err}
		default:
			made = seen
			shows, agrees = p.agrees(made, e)
		}
	}
	if was := p.wasThere(made, e, now); agrees && was != "" {
		p.fail(e, account.TakenValue, "", fmt.Sprintf("the system answered as if it had made the account, and it is %s (%s), which %s", made.Label(), made.ID, was))
		return nil
	}
	if agrees || !shows {
		p.created(e, made)
		return nil
	}
	found, err := p.lookFor(ctx, e, now, p.Settle)
	if err == nil && !found {
		p.fail(e, account.Unclear, "", fmt.Sprintf("the system answered with another account, %s (%s), and none with the row's own keys appeared within %s", made.Label(), made.ID, p.Settle))
	}
	return err
}

// wasThere says why an account that was answered with cannot be one that was made just now; empty: it can.
// Some services answer the making of a name that somebody has with 200, and their account.
func (p *run) wasThere(a account.Account, e *batch.Entry, s sent) string {
	if !a.Made.IsZero() && a.Made.Before(s.first.Add(-surelyBefore)) {
		return fmt.Sprintf("was made before, at %s", a.Made.Local().Format(time.DateTime))
	}
	for _, c := range e.Changes {
		is := a.Field(c.Field)
		if slices.Contains(personal[:], c.Field) && c.After.Filled() && is.Filled() && !alike(is.Text(), c.After.Text()) {
			return fmt.Sprintf("has the %s %s, and %s was sent", c.Field, is.Text(), c.After.Text())
		}
	}
	return ""
}

// alike reports whether a system may have made one value of the other: in capitals, without accents, cut.
func alike(a, b string) bool {
	a, b = words.Fold(a), words.Fold(b)
	return strings.Contains(a, b) || strings.Contains(b, a)
}

// surelyBefore is how long before a request an account was made that it did not make, whatever clocks say.
const surelyBefore = 5 * time.Minute

// personal are fields of a person that no system changes beyond how they are written.
var personal = [...]string{"employeeNumber", "externalId", "givenName", "familyName"}

// agrees reports whether an account shows any of the entry's keys, and whether the first
// that it shows is the entry's.
func (p *run) agrees(a account.Account, e *batch.Entry) (shows, agrees bool) {
	keys := p.keys(*e)
	for _, field := range p.Batch.Match {
		value, has := keys[field]
		if is := a.Field(field); has && is.Filled() {
			return true, p.about.Field(field).One(is.Text(), value)
		}
	}
	return false, false
}

func (p *run) created(e *batch.Entry, made account.Account) {
	e.Did, e.Account, e.Version = account.Created, made.ID, made.Version
	p.made.Store(true)
	p.told(e, made)
	p.shown(e, made)
	p.clear(e)
	e.Settle()
}

// told notes what the system kept otherwise than it was sent.
func (p *run) told(e *batch.Entry, now account.Account) {
	if len(now.Fields) == 0 {
		return // the answer didn't show it
	}
	for _, f := range system.NotKept(p.about.Schema, e.Changes, now) {
		f.Row = e.Row
		e.Findings = append(e.Findings, f)
	}
}

// shown notes that an answer showed the account as it was to be.
func (p *run) shown(e *batch.Entry, now account.Account) {
	if e.Proof = ""; p.answers && len(now.Fields) > 0 && p.carriedOut(e.Changes, now) {
		e.Proof = batch.Shown
	}
}

// leave leaves it open what became of the entry's request: it waits, and a further post
// looks before it sends anything. If an earlier post had left it open as well, it is enough: one row
// does not keep a batch from its end.
func (p *run) leave(e *batch.Entry, before bool, why string) {
	if before {
		p.fail(e, account.Unclear, "", why+"; it was the same in an earlier post")
		return
	}
	p.clear(e)
	e.Find(account.Warning, notYet, "", "", why)
	p.counting.Lock()
	defer p.counting.Unlock()
	p.left[e.Row] = true
}

// leaveTaken has a row be handed over whose request was taken in, to be carried out later: it is not sent again, by no post, and
// each looks what became of it.
func (p *run) leaveTaken(e *batch.Entry, taken *system.Unclear) {
	p.clear(e)
	if e.Outcome = account.HandedOver; taken.Ask != "" {
		e.Place = &batch.Place{Asked: taken.Ask}
	}
	e.Find(account.Warning, account.TakenIn, "", "", "the system took the account in, to make it later; it is not sent again")
}

// askAfter looks what became of what an earlier post handed over to a system that carries it out later.
func (p *run) askAfter(ctx context.Context) error {
	if p.Later {
		return nil // its files are settled
	}
	counts, _, err := p.Ledger.Counts(ctx, p.Batch.ID)
	if err != nil || counts.Elsewhere() == 0 {
		return err
	}
	open, err := p.Ledger.InFlight(ctx, p.Batch.ID, store.Part{High: math.MaxInt32})
	if err != nil {
		return err
	}
	var asked, sought []store.InFlight // about whom the system can be asked, or who is only looked for
	for _, f := range open {
		switch {
		case !f.Entry.Outcome.IsElsewhere():
		case f.Entry.Place != nil:
			asked = append(asked, f)
		default:
			sought = append(sought, f)
		}
	}
	forgotten, err := p.ask(ctx, asked)
	if sought = append(sought, forgotten...); err == nil {
		err = p.lookForOpen(ctx, sought)
	}
	if err != nil {
		return err
	}
	var known []store.Result
	for _, f := range slices.Concat(asked, sought) {
		switch {
		case !f.Entry.Outcome.IsElsewhere():
			known = append(known, store.Result{Entry: f.Entry, Claim: f.Claim})
		case p.isLeft(f.Entry.Row): // what was found stays to be told
			known = append(known, store.Result{Entry: f.Entry})
		}
	}
	for _, f := range sought[len(sought)-len(forgotten):] {
		if e := f.Entry; e.Outcome.IsElsewhere() { // from here on it is only looked for
			p.clear(&e)
			e.Place = nil
			e.Find(account.Warning, account.TakenIn, "", "", "the system took the account in, to make it later, and knows nothing of it any more, nor is the account there; it is not sent again")
			known = append(known, store.Result{Entry: e})
		}
	}
	after := context.WithoutCancel(ctx)
	if err := p.settle(after, known); err != nil || p.Batch.Secrets == "" {
		return err
	}
	return p.wipe(after, known)
}

// ask asks the system about what it said where to ask, and returns those of whom it knows nothing any more: no system keeps
// what is over for ever.
func (p *run) ask(ctx context.Context, open []store.InFlight) (forgotten []store.InFlight, err error) {
	asker, is := p.System.(system.Asker)
	if !is {
		return open, nil
	}
	var mu sync.Mutex
	group, asking := errgroup.WithContext(ctx)
	group.SetLimit(p.slots())
	for i := range open {
		f := &open[i]
		if f.Entry.Place == nil || f.Entry.Place.Asked == "" {
			continue
		}
		group.Go(func() error {
			made, err := asker.Ask(asking, f.Entry.Place.Asked, p.fields())
			var refusal *system.Refusal
			var lacks bool
			if err == nil {
				lacks, err = p.fillUp(asking, &f.Entry, made)
			}
			switch {
			case isOpen(err): // not yet
				return nil
			case errors.Is(err, system.ErrGone):
				mu.Lock()
				defer mu.Unlock()
				forgotten = append(forgotten, *f)
				return nil
			case errors.As(err, &refusal): // what is taken may be so by an earlier request of ours, of a post that was killed
				n, err := p.notCreated(asking, &f.Entry, refusal, sent{f.First, f.First}, p.sentOf(*f))
				if err != nil || n != nextAnew {
					return err
				}
				return p.carryOut(asking, []errand{&making{p: p, e: &f.Entry, progress: progress{before: wasOpen(&f.Entry)}}})
			case err != nil:
				return err
			case lacks:
				p.lacking(&f.Entry, made)
				return nil
			}
			return p.answered(asking, &f.Entry, made, p.sentOf(*f))
		})
	}
	err = group.Wait()
	return forgotten, err
}

// isLeft reports whether it was left open what became of the row's request.
func (p *run) isLeft(row int) bool {
	p.counting.Lock()
	defer p.counting.Unlock()
	return p.left[row]
}

// notYet is the code of what is told of an entry while it is open what became of it.
const notYet = account.NotClearYet

// clear takes back what was told while it was open what became of the entry.
func (p *run) clear(e *batch.Entry) {
	e.Findings = slices.DeleteFunc(e.Findings, func(f account.Finding) bool { return f.Code == notYet || f.Code == account.TakenIn })
}

// A changing has an account changed as its entry says, or removed. One that is to be removed and is gone already is as it
// should be.
type changing struct {
	progress
	p       *run
	e       *batch.Entry
	version string
}

func (c *changing) does() system.Verb { return system.VerbOf(c.e.Intent) }
func (c *changing) account() string   { return c.e.Account }
func (c *changing) touches() []string { return nil }

func (c *changing) order() (system.Order, error) {
	return system.Order{Does: c.does(), Known: account.Account{ID: c.e.Account, Version: c.version, Fields: c.e.Known}, Changes: c.e.Changes}, nil
}

func (c *changing) seen(ctx context.Context, now account.Account, err error) (next, error) {
	over, now, err := c.p.settleAs(ctx, c.e, now, err, c.unclear)
	if c.version = now.Version; over {
		return nextNothing, err
	}
	return nextSend, err
}

func (c *changing) came(_ context.Context, now account.Account, err error) (next, error) {
	var refusal *system.Refusal
	var part *system.Partial
	removes := c.e.Intent == account.Remove
	switch {
	case err == nil && removes:
		c.p.removed(c.e)
	case err == nil:
		return nextNothing, c.p.changed(c.e, now)
	case errors.As(err, &part):
		if c.e.Account = part.Now.ID; isOpen(err) {
			return nextUnclear, nil
		}
		return nextNothing, c.p.partly(c.e, part)
	case isOpen(err):
		return nextUnclear, nil
	case errors.Is(err, system.ErrChanged):
		return nextLook, nil
	case errors.Is(err, system.ErrGone) && removes:
		c.p.goneAlready(c.e, c.unclear)
	case errors.Is(err, system.ErrGone):
		c.p.gone(c.e)
	case errors.As(err, &refusal):
		c.p.fail(c.e, refusal.Code, refusal.Field, refusal.Message)
	default:
		return nextSend, stillOpen(c.unclear, err)
	}
	return nextNothing, nil
}

func (c *changing) left() {
	switch as := "the account is as it was"; {
	case c.unclear:
		if c.e.Intent == account.Remove {
			as = "the account is still there"
		}
		c.p.leave(c.e, c.before, fmt.Sprintf("the system gave no clear answer %d times, and %s", maxAttempts, as))
	default:
		c.e.Find(account.Error, account.Stale, "", "", "the account kept changing while it was to be changed")
		c.p.refuse(c.e)
	}
}

// changed settles an entry whose change was made. If it is somebody else whose account
// the system shows, the post cannot go on.
func (p *run) changed(e *batch.Entry, now account.Account) error {
	e.Did, e.Version = e.Intent.Comes(), now.Version
	if p.about.Can.Moves && now.ID != "" {
		e.Account = now.ID
	}
	p.told(e, now)
	p.shown(e, now)
	p.clear(e)
	e.Settle()
	if batch.Stranger(p.about.Schema, e.Left(), &now, p.Batch.Match) {
		e.Find(account.Error, account.DifferentPerson, "", "", fmt.Sprintf("the account %s is %s now, and was changed all the same", e.Account, now.Label()))
		e.Outcome = account.Failed
		unsent(e)
		return p.otherSystem(e, now)
	}
	return nil
}

// partly settles an entry of whose changes the system made some. An error means that the
// post cannot go on.
func (p *run) partly(e *batch.Entry, part *system.Partial) error {
	var done []string
	for _, c := range part.Done {
		done = append(done, c.Field)
	}
	p.fail(e, account.PartlyDone, "", fmt.Sprintf("%s %s changed as wanted, and the rest was not: %s", strings.Join(done, ", "), map[bool]string{true: "was", false: "were"}[len(done) == 1], part.Err))
	p.did(e, part.Now, part.Done)
	var refusal *system.Refusal
	if errors.As(part.Err, &refusal) || errors.Is(part.Err, system.ErrChanged) || errors.Is(part.Err, system.ErrGone) {
		return nil // one row's trouble
	}
	return part.Err
}

// did notes which changes were made where not all were, so that they can be read back and undone.
func (p *run) did(e *batch.Entry, now account.Account, part []account.Change) {
	e.Did, e.Version, e.Part = e.Intent.Comes(), now.Version, []string{}
	for _, c := range part {
		e.Part = append(e.Part, c.Field)
	}
}

func (p *run) otherSystem(e *batch.Entry, now account.Account) error {
	return p.Batch.OtherSystem(fmt.Sprintf("the account %s was %s when it was drafted, and is %s now", e.Account, e.Key, now.Label()))
}

func (p *run) removed(e *batch.Entry) {
	e.Did = account.Removed
	p.clear(e)
	e.Settle()
}

// goneAlready settles an entry whose account was to be removed and is not there: if no request of
// ours can have removed it, nothing was done, and nothing is to be undone.
func (p *run) goneAlready(e *batch.Entry, ours bool) {
	if ours {
		p.removed(e)
		return
	}
	e.Find(account.Note, account.AccountGone, "", "", fmt.Sprintf("the account %s was gone already when it was to be removed", e.Account))
	e.Did = account.Unchanged
	p.clear(e)
	e.Settle()
}

// settleChange reads the account and settles the entry if that is possible: it
// is stale, gone, protected, or has been changed by a request whose answer was lost.
// Otherwise the account is as drafted and is returned.
func (p *run) settleChange(ctx context.Context, e *batch.Entry, unclear bool) (settled bool, now account.Account, err error) {
	now, err = p.System.Get(ctx, e.Account, p.fields())
	return p.settleAs(ctx, e, now, err, unclear)
}

// settleAs is settleChange with what reading the account came to.
func (p *run) settleAs(ctx context.Context, e *batch.Entry, now account.Account, err error, unclear bool) (bool, account.Account, error) {
	if errors.Is(err, system.ErrGone) && unclear && p.about.Can.Moves {
		now, err = p.moved(ctx, e)
	}
	var refusal *system.Refusal
	switch {
	case errors.Is(err, system.ErrGone) && e.Intent == account.Remove:
		p.goneAlready(e, unclear)
		return true, now, nil
	case errors.Is(err, system.ErrGone):
		p.gone(e)
		return true, now, nil
	case errors.As(err, &refusal) && !unclear:
		p.fail(e, refusal.Code, refusal.Field, refusal.Message)
		return true, now, nil
	case err != nil:
		return false, now, stillOpen(unclear, err)
	}
	if unclear && e.Intent != account.Remove && p.carriedOut(e.Changes, now) {
		return true, now, p.changed(e, now)
	}
	if batch.Stranger(p.about.Schema, e.Known, &now, p.Batch.Match) {
		return false, now, stillOpen(unclear, p.otherSystem(e, now))
	}
	if name, is := p.protected(e, &now); is {
		p.refuseProtected(e, name)
		return true, now, nil
	}
	return p.refuseIfStale(ctx, e, now, unclear), now, nil
}

// moved finds an account that a request of ours has called otherwise, by its keys as the
// entry leaves them; ErrGone means that it is not there.
func (p *run) moved(ctx context.Context, e *batch.Entry) (now account.Account, err error) {
	left := e.Left()
	keys := map[string][]string{}
	for _, name := range append(slices.Clone(p.Batch.Match), p.about.Naming) {
		if left[name].Filled() {
			keys[name] = []string{left[name].Text()}
		}
	}
	err = system.ErrGone
	_, found := system.Fetch(ctx, p.System, keys, p.fields(), 1, func(a account.Account) {
		for name, value := range keys {
			if !p.about.Field(name).One(a.Field(name).Text(), value[0]) {
				return
			}
		}
		now, err = a, nil
		e.Account = a.ID
	})
	if found != nil {
		return now, found
	}
	return now, err
}

// refuseIfStale settles the entry if its account is not as it was drafted. It is unclear if
// a request of ours may have changed it.
func (p *run) refuseIfStale(ctx context.Context, e *batch.Entry, now account.Account, unclear bool) bool {
	field, before, after, differs := p.difference(e.Known, now)
	switch ours := slices.ContainsFunc(e.Changes, func(c account.Change) bool { return c.Field == field }); {
	case differs && unclear && ours && e.Intent != account.Remove:
		// It is no refusal that nothing was sent of: our own request may have done a part.
		p.fail(e, account.Unclear, field, fmt.Sprintf("no clear answer came, and the account is neither as it was nor as it was to be: %s is “%s”", field, p.said(ctx, field, after)))
		if part := system.Carried(p.about.Schema, e.Changes, now); len(part) > 0 {
			p.did(e, now, part)
		}
	case differs:
		e.Find(account.Error, account.Stale, field, "", fmt.Sprintf("since the draft %s changed from “%s” to “%s” in the system", field, p.said(ctx, field, before), p.said(ctx, field, after)))
		p.refuse(e)
	}
	return differs
}

// said is a field's value as people say it: of other accounts the names, not the identifiers.
func (p *run) said(ctx context.Context, field, text string) string {
	if p.about.Field(field).Kind != account.Person || text == "" {
		return text
	}
	items := account.Items(text)
	for i, id := range items {
		if a, err := p.System.Get(ctx, id, []string{p.about.Naming, "displayName"}); err == nil {
			items[i] = a.Label()
		}
	}
	return strings.Join(items, ", ")
}

// carriedOut reports whether the account has what the changes would give it.
func (p *run) carriedOut(changes []account.Change, now account.Account) bool {
	return !slices.ContainsFunc(changes, func(c account.Change) bool {
		return !p.about.Field(c.Field).Same(c.After.Text(), now.Field(c.Field).Text())
	})
}

// difference finds a field that is otherwise than it was known. Several values in
// another order are the same.
func (p *run) difference(known map[string]account.Value, now account.Account) (field, before, after string, differs bool) {
	for _, name := range p.Batch.Fields {
		was, is := known[name].Text(), now.Field(name).Text()
		if was == is || p.followed(name, was) {
			continue
		}
		x, y := account.Items(was), account.Items(is)
		slices.Sort(x)
		slices.Sort(y)
		if !slices.Equal(x, y) {
			return name, was, is, true
		}
	}
	return "", "", "", false
}

// followed reports whether a field refers to an account that the batch itself changes, in
// a system that calls accounts otherwise then and has what refers to them follow, or that it removes. That
// somebody changed the field besides is not seen.
func (p *run) followed(field, was string) bool {
	return (p.moving[was] || p.removing[was]) && p.about.Field(field).Kind == account.Person
}

func (p *run) gone(e *batch.Entry) {
	p.fail(e, account.AccountGone, "", fmt.Sprintf("the account %s is no longer in the system", e.Account))
}

func (p *run) fail(e *batch.Entry, code account.Code, field, message string) {
	p.clear(e)
	e.Find(account.Error, code, field, "", message)
	e.Outcome = account.Failed
	unsent(e)
}

func (p *run) refuse(e *batch.Entry) {
	p.clear(e)
	e.Outcome = account.Refused
	unsent(e)
}

// unsent marks the steps that will not be sent, as the account's own was not done.
func unsent(e *batch.Entry) {
	for i := range e.Steps {
		e.Steps[i].Result = membership.Unsent
	}
}
