package posting

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// tieWindow is how many entries have their memberships carried out together: the
// more, the fewer requests a large group takes.
const tieWindow = 20000

// pending yields the entries whose account is as wanted and whose steps wait, in
// windows: those with a step that does the given, or all.
func (p *run) pending(ctx context.Context, does membership.Verb, do func([]batch.Entry) error) error {
	outward, limit := does == membership.Notify || does == membership.Follow, tieWindow
	if outward {
		limit = outwardWindow
	}
	for after := max(0, p.part.Low-1); ctx.Err() == nil; {
		var window []batch.Entry
		filter := store.Filter{Outcomes: []account.Outcome{account.Waiting}, Steps: true, Does: does, Secrets: does == membership.Renew || does == membership.Notify, Mails: outward, After: after, Upto: p.part.High, Limit: limit}
		for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, filter) {
			if err != nil {
				return ignoreCancel(ctx, err)
			}
			window = append(window, e)
		}
		if len(window) == 0 {
			return nil
		}
		if after = window[len(window)-1].Row; does != "" && !outward {
			window = slices.DeleteFunc(window, func(e batch.Entry) bool { return stepOf(&e, does) == nil })
		}
		if len(window) == 0 {
			continue
		}
		if err := do(window); err != nil {
			return err
		}
	}
	return nil
}

// stepOf returns the first of an entry's steps that does something and waits; nil: none.
func stepOf(e *batch.Entry, does membership.Verb) *membership.Step {
	for n := range e.Steps {
		if s := &e.Steps[n]; s.Do == does && s.Waits() {
			return s
		}
	}
	return nil
}

// open tells that it is open what became of steps of an entry: they wait, and a further
// post looks before it sends anything.
func (p *run) open(e *batch.Entry, steps int, why string) {
	p.clear(e)
	e.Find(account.Warning, notYet, "", "", why)
	p.counting.Lock()
	defer p.counting.Unlock()
	p.unclear += steps
}

// tied is one step of an entry on its way.
type tied struct {
	entry *batch.Entry
	step  *membership.Step
	ours  bool // a request of ours may have carried it out
}

// thing is a thing with the steps that change its members.
type thing struct{ kind, id string }

// memberships carries out the memberships: those of one thing together, in few
// requests, and different things side by side.
func (p *run) memberships(ctx context.Context, _ func(error)) error {
	return p.pending(ctx, "", func(window []batch.Entry) error {
		w := &tieWork{run: p, by: map[thing][]tied{}, waiting: map[*batch.Entry]bool{}, unshown: map[string]bool{}, opened: map[*batch.Entry]bool{}}
		defer w.noteOpen()
		total := 0
		for i := range window {
			w.opened[&window[i]] = wasOpen(&window[i])
			for n := range window[i].Steps {
				if s := &window[i].Steps[n]; s.IsTie() && s.Waits() {
					total++
				}
			}
		}
		if total == 0 {
			return nil
		}
		p.begin("memberships", total)
		if p.about.Can.Ties == 0 {
			return errors.New("the system keeps no memberships")
		}
		if !w.SettleOnly {
			if err := w.makeMissing(ctx, window); err != nil {
				return err
			}
		}
		for i := range window {
			for n := range window[i].Steps {
				if s := &window[i].Steps[n]; s.IsTie() && s.Waits() && s.Thing != "" {
					at := thing{s.Kind, s.Thing}
					w.by[at] = append(w.by[at], tied{&window[i], s, s.Result == membership.Sending})
				}
			}
		}
		return w.goThrough(ctx)
	})
}

// tieWork is the memberships of one window.
type tieWork struct {
	*run
	by      map[thing][]tied
	mu      sync.Mutex // over the entries, which several things may share
	waiting map[*batch.Entry]bool
	unshown map[string]bool       // accounts of this batch: whether the system doesn't show them
	opened  map[*batch.Entry]bool // whether an earlier post left it open what became of steps
}

func (w *tieWork) goThrough(ctx context.Context) error {
	if w.SettleOnly {
		for at, ties := range w.by {
			w.by[at] = slices.DeleteFunc(ties, func(t tied) bool { return !t.ours })
		}
		maps.DeleteFunc(w.by, func(_ thing, ties []tied) bool { return len(ties) == 0 })
	}
	if err := w.look(ctx, w.known()); err != nil {
		return err
	}
	work := w.by
	if w.SettleOnly { // what is left was not done
		for _, ties := range work {
			for _, t := range ties {
				t.step.Result = ""
				w.waiting[t.entry] = true
			}
		}
		return nil
	}
	if err := errors.Join(w.emptied(ctx, work), w.seated(ctx, work)); err != nil {
		return err
	}
	for {
		refused, err := w.pass(ctx, work)
		if err != nil || ctx.Err() != nil {
			return err
		}
		// A thing may not know of new accounts yet. The others need not wait for it.
		work = map[thing][]tied{}
		again := len(refused) > 0 && w.unseen(ctx)
		for _, r := range refused {
			if again && r.entry.Did == account.Created {
				work[r.at] = append(work[r.at], r.tied)
				continue
			}
			late, err := w.isUnseen(ctx, r.entry)
			if err != nil {
				return err
			}
			if late && w.opened[r.entry] {
				w.settle([]tied{r.tied}, membership.Failed, account.AccountGone, fmt.Sprintf("the account was made, and is not there any more, nor did it show since an earlier post; the system says: %s", r.why.Message))
				continue
			}
			if late {
				w.leaveOpen([]tied{r.tied}, fmt.Sprintf("the system does not show the new account within %s, the “settle” of evenledger.yaml, and says: %s", w.Settle, r.why.Message))
				continue
			}
			w.settle([]tied{r.tied}, membership.Failed, r.why.Code, r.why.Message)
		}
		if len(work) == 0 {
			return nil
		}
	}
}

// seated counts anew how many have what has only so many seats, as others may have taken some since the draft, and fails the rows for
// which none is left. Not every system knows of the seats itself.
func (w *tieWork) seated(ctx context.Context, work map[thing][]tied) error {
	kinds := map[string]map[string]membership.Seats{}
	for _, s := range w.Batch.Seats {
		if len(work[thing{s.Kind, s.Thing}]) > 0 {
			if kinds[s.Kind] == nil {
				kinds[s.Kind] = map[string]membership.Seats{}
			}
			kinds[s.Kind][s.Thing] = s
		}
	}
	for kind, seats := range kinds {
		for t, err := range w.System.Things(ctx, kind, true) {
			if err != nil {
				return err
			}
			s, limited := seats[t.ID]
			if !limited || t.Members < 0 {
				continue
			}
			at := thing{kind, t.ID}
			free := s.Has - t.Members
			for _, tie := range work[at] {
				if tie.step.Do == membership.Leave {
					free++
				}
			}
			var none []tied
			work[at] = slices.DeleteFunc(work[at], func(tie tied) bool {
				if tie.step.Do != membership.Join || tie.step.Was != nil || tie.ours {
					return false
				}
				if free--; free >= 0 {
					return false
				}
				none = append(none, tie)
				return true
			})
			w.settle(none, membership.Failed, account.NoSeatLeft, fmt.Sprintf("no seat is left in “%s”: %d of %d have one, as it was counted anew before anybody joined", s.Name, t.Members, s.Has))
		}
	}
	return nil
}

// wasOpen reports whether an earlier post left it open already what became of something of the entry.
func wasOpen(e *batch.Entry) bool {
	return slices.ContainsFunc(e.Findings, func(f account.Finding) bool { return f.Code == notYet })
}

// isUnseen reports whether the system does not show an account that the batch made.
func (w *tieWork) isUnseen(ctx context.Context, e *batch.Entry) (bool, error) {
	if e.Did != account.Created {
		return false, nil
	}
	if _, asked := w.unshown[e.Account]; !asked {
		_, err := w.System.Get(ctx, e.Account, nil)
		if err != nil && !errors.Is(err, system.ErrGone) {
			return false, err
		}
		w.unshown[e.Account] = err != nil
	}
	return w.unshown[e.Account], nil
}

// known lists the things of which somebody may be a member already: all but those that
// only accounts join which this batch made.
func (w *tieWork) known() (things []thing) {
	for at, ties := range w.by {
		if slices.ContainsFunc(ties, func(t tied) bool {
			return t.ours || t.entry.Did != account.Created || t.step.Do != membership.Join || t.step.Was != nil
		}) {
			things = append(things, at)
		}
	}
	return things
}

// pass goes once through the things, several side by side, and returns what was refused.
func (w *tieWork) pass(ctx context.Context, work map[thing][]tied) (refused []refusedTie, err error) {
	group, sending := errgroup.WithContext(ctx)
	group.SetLimit(w.slots())
	var mu sync.Mutex
	for at, ties := range work {
		group.Go(func() error {
			// What is left comes first, so that its seats are free.
			slices.SortStableFunc(ties, func(a, b tied) int { return leavesFirst(a) - leavesFirst(b) })
			var no []refusedTie
			defer func() {
				mu.Lock()
				defer mu.Unlock()
				refused = append(refused, no...)
			}()
			for some := range slices.Chunk(ties, w.about.Can.Ties) {
				if ctx.Err() != nil || sending.Err() != nil {
					return nil
				}
				if err := w.tie(sending, at, some, maxAttempts, &no); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err = group.Wait()
	return refused, err
}

// refusedTie is a step that the system refused by itself.
type refusedTie struct {
	tied
	at  thing
	why *system.Refusal
}

func leavesFirst(t tied) int {
	if t.step.Do == membership.Leave {
		return 0
	}
	return 1
}

// tie carries out changes of one thing's members. If the system refuses them
// together, they are halved until those at fault stand alone; these come back in
// refused.
func (w *tieWork) tie(ctx context.Context, at thing, ties []tied, attempts int, refused *[]refusedTie) error {
	if len(ties) == 0 {
		return nil
	}
	if err := w.claim(ctx, ties); err != nil {
		return err
	}
	err := w.System.Tie(ctx, w.may, at.kind, at.id, tiesOf(ties))
	var refusal *system.Refusal
	switch {
	case err == nil:
		w.settle(ties, membership.Done, "", "")
		return nil
	case errors.Is(err, system.ErrGone) && w.unseen(ctx):
		return w.tie(ctx, at, ties, attempts, refused)
	case errors.Is(err, system.ErrGone) && ctx.Err() != nil:
		w.undone(ties)
		return nil // it was stopped while it waited for that: nothing is known of it
	case errors.Is(err, system.ErrGone):
		w.settle(ties, membership.Failed, account.ThingGone, fmt.Sprintf("“%s” is no longer in the system", ties[0].step.Name))
		return nil
	case errors.As(err, &refusal) && len(ties) > 1:
		w.undone(ties)
		half := len(ties) / 2
		if err := w.tie(ctx, at, ties[:half], attempts, refused); err != nil {
			return err
		}
		return w.tie(ctx, at, ties[half:], attempts, refused)
	case errors.As(err, &refusal), isOpen(err), errors.Is(err, system.ErrChanged):
		// It may be as wanted already: members come and go by other hands as well.
		if isOpen(err) {
			for i := range ties {
				ties[i].ours = true
			}
		} else {
			w.undone(ties)
		}
		left, lookErr := w.lookAt(ctx, at, ties)
		if lookErr != nil {
			return lookErr
		}
		if refusal != nil {
			for _, t := range left {
				*refused = append(*refused, refusedTie{t, at, refusal})
			}
			return nil
		}
		if attempts <= 1 {
			w.leaveOpen(left, fmt.Sprintf("the system gave no clear answer %d times when memberships were to change", maxAttempts))
			return nil
		}
		return w.tie(ctx, at, left, attempts-1, refused)
	}
	return err
}

// claim notes that memberships are about to be changed: what of them is found later is ours.
func (w *tieWork) claim(ctx context.Context, ties []tied) error {
	rows := map[int][]int{}
	w.mu.Lock()
	for _, t := range ties {
		if t.step.Result != membership.Sending {
			t.step.Result = membership.Sending
			for n := range t.entry.Steps {
				if &t.entry.Steps[n] == t.step {
					rows[n] = append(rows[n], t.entry.Row)
				}
			}
		}
	}
	w.mu.Unlock()
	asked := time.Now()
	err := w.at.Lease.ClaimSteps(ctx, rows)
	if err == nil {
		w.at.Renewed(asked)
	}
	return err
}

// undone notes that a request was refused, so that nothing was done by it.
func (w *tieWork) undone(ties []tied) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, t := range ties {
		if !t.ours {
			t.step.Result = ""
		}
	}
}

// tiesOf are the changes that steps ask of their thing.
func tiesOf(steps []tied) []system.Tie {
	ties := make([]system.Tie, len(steps))
	for i, t := range steps {
		ties[i] = system.Tie{Account: t.entry.Account, Role: t.step.Role, Section: t.step.Section, Was: t.step.Was != nil, Leave: t.step.Do == membership.Leave}
	}
	return ties
}

// lookAt reads a thing's members, settles what is as wanted and returns the rest.
func (w *tieWork) lookAt(ctx context.Context, at thing, ties []tied) ([]tied, error) {
	members := &membership.Register{}
	if err := members.Read(ctx, w.System, at.kind, []string{at.id}, membership.Anyone, membership.Silent); err != nil {
		return nil, err
	}
	return w.sift(at, ties, members, false), nil
}

// sift settles the steps that are as wanted and returns the others. Before anything was
// sent, those are refused of which the membership is otherwise than it was drafted:
// somebody else changed it since.
func (w *tieWork) sift(at thing, ties []tied, members *membership.Register, drafted bool) (left []tied) {
	var done, already, stale []tied
	w.mu.Lock()
	for _, t := range ties {
		m, is := members.In(t.entry.Account, at.kind, at.id)
		switch {
		case drafted && t.step.Do == membership.Leave && t.step.Was == nil && !is:
			left = append(left, t) // it was to be left whether it is shown or not
		case t.step.Do == membership.Leave && !is || t.step.Do == membership.Join && is && m.Role == t.step.Role && m.Section == t.step.Section:
			if t.ours {
				done = append(done, t)
			} else {
				already = append(already, t)
			}
		case drafted && isStale(t, m, is):
			stale = append(stale, t)
		default:
			if t.step.Was = nil; is { // so that it is taken out first
				t.step.Was = &[2]string{m.Role, m.Section}
			}
			left = append(left, t)
		}
	}
	w.mu.Unlock()
	w.settle(done, membership.Done, "", "")
	w.settle(already, membership.Already, "", "")
	for _, t := range stale {
		m, is := members.In(t.entry.Account, at.kind, at.id)
		now := "it is no member any more"
		if is {
			now = "it is " + account.MembershipText(t.step.Name, m.Role, m.Section)
		}
		w.settle([]tied{t}, membership.Failed, account.Stale, "the membership was changed by somebody since the draft: "+now)
	}
	return left
}

// isStale reports whether a membership is otherwise than it was drafted. That a member is
// none any more may be our own doing where an earlier post was cut short.
func isStale(t tied, m account.Membership, is bool) bool {
	s := t.step
	switch {
	case s.Was == nil:
		return s.Do == membership.Join && is && !s.Made
	case !is:
		return !t.ours
	}
	return m.Role != s.Was[0] || m.Section != s.Was[1]
}

// leaveOpen leaves steps waiting of which it is open what became of them.
func (w *tieWork) leaveOpen(ties []tied, why string) {
	var enough []tied // it was the same in an earlier post
	defer func() {
		w.settle(enough, membership.Failed, account.Unclear, why+"; it was the same in an earlier post")
	}()
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, t := range ties {
		if w.opened[t.entry] {
			enough = append(enough, t)
			continue
		}
		w.run.open(t.entry, 1, fmt.Sprintf("it is open that the account %s: %s", t.step.Text(), why))
		w.waiting[t.entry] = true
	}
}

// look settles, of many things, what is as wanted already.
func (w *tieWork) look(ctx context.Context, things []thing) error {
	ids := map[string][]string{}
	for _, at := range things {
		ids[at.kind] = append(ids[at.kind], at.id)
	}
	for kind, some := range ids {
		members := &membership.Register{}
		if err := members.Read(ctx, w.System, kind, some, w.concerned(), membership.Silent); err != nil {
			return err
		}
		for _, id := range some {
			at := thing{kind, id}
			w.by[at] = w.sift(at, w.by[at], members, true)
		}
	}
	return nil
}

// concerned returns whether an account is one of those whose memberships are to change.
func (w *tieWork) concerned() func(id string) bool {
	ours := map[string]bool{}
	for _, ties := range w.by {
		for _, t := range ties {
			ours[t.entry.Account] = true
		}
	}
	return func(id string) bool { return ours[id] }
}

// noteOpen notes the steps that are done of entries of which others wait, when
// there is no more to do for now. Should it not come to that, they are looked up.
func (w *tieWork) noteOpen() {
	for e := range w.waiting {
		w.results <- resultOf(e)
	}
}

// settle notes what became of steps. An entry is noted once all of its are settled.
func (w *tieWork) settle(ties []tied, result membership.Result, code account.Code, message string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, t := range ties {
		t.step.Result = result
		if result == membership.Failed {
			t.entry.Find(account.Error, code, t.step.Kind, "", fmt.Sprintf("the account is there, but not that it %s: %s", t.step.Text(), message))
		}
		if t.entry.Settle(); !t.entry.Outcome.Waits() {
			w.clear(t.entry)
		}
		if w.waiting[t.entry] = true; !t.entry.Outcome.Waits() {
			delete(w.waiting, t.entry)
			w.results <- resultOf(t.entry)
		}
	}
	w.advance(len(ties))
}
