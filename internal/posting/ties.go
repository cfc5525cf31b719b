package posting

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/ledger"
	"evenledger/internal/membership"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// tieWindow is how many entries have their memberships carried out together: the
// more, the fewer requests a large group takes.
const tieWindow = 20000

// pending yields the entries whose account is as wanted and whose steps wait, in
// windows; of those that refer to accounts of other rows, or of all.
func (p *Post) pending(ctx context.Context, refers bool, do func([]batch.Entry) error) error {
	for after := 0; ctx.Err() == nil; {
		var window []batch.Entry
		filter := ledger.Filter{Outcomes: []account.Outcome{account.Waiting}, Steps: true, Refers: refers, After: after, Limit: tieWindow}
		for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, filter) {
			if err != nil {
				return ignoreCancel(ctx, err)
			}
			window = append(window, e)
		}
		if len(window) == 0 {
			return nil
		}
		after = window[len(window)-1].Row
		if err := do(window); err != nil {
			return err
		}
	}
	return nil
}

// references sets the fields that refer to accounts which the same sheet created.
func (p *Post) references(ctx context.Context, _ func(error)) error {
	return p.pending(ctx, true, func(window []batch.Entry) error {
		var rows []int
		total := 0
		for _, e := range window {
			for _, s := range e.Steps {
				if s.Do == membership.Refer && s.Result == "" {
					rows = append(rows, s.Row)
					total++
				}
			}
		}
		if total == 0 {
			return nil
		}
		p.begin("references", total)
		accounts, outcomes, err := p.Ledger.Accounts(ctx, p.Batch.ID, rows)
		if err != nil {
			return err
		}
		group, sending := errgroup.WithContext(context.WithoutCancel(ctx))
		group.SetLimit(max(1, p.Together))
		for i := range window {
			e := &window[i]
			if !slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Do == membership.Refer && s.Result == "" }) {
				continue
			}
			group.Go(func() error {
				if ctx.Err() != nil || sending.Err() != nil {
					return nil
				}
				return p.refer(sending, e, accounts, outcomes)
			})
		}
		return group.Wait()
	})
}

// refer carries out the references of one entry.
func (p *Post) refer(ctx context.Context, e *batch.Entry, accounts map[int]string, outcomes map[int]account.Outcome) error {
	var changes []account.Change
	var steps []int
	for i, s := range e.Steps {
		switch {
		case s.Do != membership.Refer || s.Result != "":
		case accounts[s.Row] != "":
			changes, steps = append(changes, account.Change{Field: s.Kind, After: account.Of(accounts[s.Row])}), append(steps, i)
		case outcomes[s.Row] != account.Waiting:
			e.Steps[i].Result = membership.Failed
			e.Find(account.Error, "unknown-person", s.Kind, "", fmt.Sprintf("the account is there, but its %s was not set: the one in row %d was not created", s.Kind, s.Row))
		}
	}
	settle := func(result membership.Result) {
		for _, i := range steps {
			e.Steps[i].Result = result
		}
		e.Settle()
		p.results <- ledger.Result{Entry: *e}
		p.advance(len(steps))
	}
	if len(changes) == 0 {
		settle("")
		return nil
	}
	known := account.Account{ID: e.Account, Fields: map[string]account.Value{}}
	look := p.again
	for range maxAttempts {
		if look {
			now, err := p.System.Get(ctx, e.Account, p.fields())
			if err == nil && carriedOut(changes, now) {
				e.Version = now.Version
				settle(membership.Done)
				return nil
			}
			var unavailable *system.Unavailable
			if errors.As(err, &unavailable) {
				return err
			}
		}
		now, err := p.System.Change(ctx, known, changes, p.fields())
		var refusal *system.Refusal
		switch {
		case err == nil:
			e.Version = now.Version
			settle(membership.Done)
			return nil
		case isOpen(err), errors.Is(err, system.ErrChanged):
			look = true
			continue
		case errors.Is(err, system.ErrGone):
			e.Find(account.Error, "account-gone", "", "", fmt.Sprintf("the account %s is no longer in the system", e.Account))
		case errors.As(err, &refusal) && p.unseen(ctx):
			return p.refer(ctx, e, accounts, outcomes)
		case errors.As(err, &refusal):
			e.Find(account.Error, refusal.Code, changes[0].Field, "", fmt.Sprintf("the account is there, but its %s was not set: %s", changes[0].Field, refusal.Message))
		default:
			return err
		}
		settle(membership.Failed)
		return nil
	}
	e.Find(account.Error, "unclear", changes[0].Field, "", fmt.Sprintf("the system gave no clear answer %d times when the %s was to be set", maxAttempts, changes[0].Field))
	settle(membership.Failed)
	return nil
}

// tied is one step of an entry on its way.
type tied struct {
	entry *batch.Entry
	step  *membership.Step
}

// thing is a thing with the steps that change its members.
type thing struct{ kind, id string }

// memberships carries out the memberships: those of one thing together, in few
// requests, and different things side by side.
func (p *Post) memberships(ctx context.Context, _ func(error)) error {
	registrar, ok := p.System.(system.Registrar)
	return p.pending(ctx, false, func(window []batch.Entry) error {
		w := &tieWork{Post: p, registrar: registrar, by: map[thing][]tied{}, open: map[*batch.Entry]bool{}}
		defer w.noteOpen()
		total := 0
		for i := range window {
			for n := range window[i].Steps {
				if s := &window[i].Steps[n]; s.Do != membership.Refer && s.Result == "" {
					total++
				}
			}
		}
		if total == 0 {
			return nil
		}
		p.begin("memberships", total)
		if !ok {
			return errors.New("the system keeps no memberships")
		}
		if err := w.makeMissing(ctx, window); err != nil {
			return err
		}
		for i := range window {
			for n := range window[i].Steps {
				if s := &window[i].Steps[n]; s.Do != membership.Refer && s.Result == "" && s.Thing != "" {
					at := thing{s.Kind, s.Thing}
					w.by[at] = append(w.by[at], tied{&window[i], s})
				}
			}
		}
		return w.run(ctx)
	})
}

// tieWork is the memberships of one window.
type tieWork struct {
	*Post
	registrar system.Registrar
	by        map[thing][]tied
	mu        sync.Mutex // over the entries, which several things may share
	open      map[*batch.Entry]bool
}

func (w *tieWork) run(ctx context.Context) error {
	if w.again {
		// What an earlier post left open is looked up before anything is sent.
		if err := w.look(ctx, slices.Collect(maps.Keys(w.by))); err != nil {
			return err
		}
	}
	group, sending := errgroup.WithContext(context.WithoutCancel(ctx))
	group.SetLimit(max(1, w.Together))
	for at, ties := range w.by {
		group.Go(func() error {
			// What is left comes first, so that its seats are free.
			slices.SortStableFunc(ties, func(a, b tied) int { return leavesFirst(a) - leavesFirst(b) })
			for {
				var refused []refusedTie
				for some := range slices.Chunk(ties, w.registrar.TieSize()) {
					if ctx.Err() != nil || sending.Err() != nil {
						return nil
					}
					if err := w.tie(sending, at, some, maxAttempts, &refused); err != nil {
						return err
					}
				}
				ties = ties[:0]
				for _, r := range refused {
					if r.entry.Did == account.Created {
						ties = append(ties, r.tied)
					}
				}
				// The thing may not know of new accounts yet.
				if len(ties) == 0 || !w.unseen(ctx) {
					for _, r := range refused {
						w.settle([]tied{r.tied}, membership.Failed, r.why.Code, r.why.Message)
					}
					return nil
				}
				for _, r := range refused {
					if r.entry.Did != account.Created {
						w.settle([]tied{r.tied}, membership.Failed, r.why.Code, r.why.Message)
					}
				}
			}
		})
	}
	return group.Wait()
}

// refusedTie is a step that the system refused by itself.
type refusedTie struct {
	tied
	why *system.Refusal
}

func leavesFirst(t tied) int {
	if t.step.Do == membership.Leave {
		return 0
	}
	return 1
}

// makeMissing makes the things that rows ask for and that do not exist.
func (w *tieWork) makeMissing(ctx context.Context, window []batch.Entry) error {
	missing := map[string]map[string]string{} // kind → key of the name → name
	for _, e := range window {
		for _, s := range e.Steps {
			if s.Do == membership.Join && s.Thing == "" && s.Result == "" {
				if missing[s.Kind] == nil {
					missing[s.Kind] = map[string]string{}
				}
				missing[s.Kind][words.NameKey(s.Name)] = s.Name
			}
		}
	}
	for kind, names := range missing {
		made, refused := map[string]string{}, map[string]error{}
		look := func() error {
			for t, err := range w.registrar.Things(ctx, kind, false) {
				if err != nil {
					return err
				}
				if _, wanted := names[words.NameKey(t.Name)]; wanted {
					made[words.NameKey(t.Name)] = t.ID
				}
			}
			return nil
		}
		// Somebody may have made one since the draft, or an earlier post of ours.
		for {
			if err := look(); err != nil {
				return err
			}
			if len(made) == len(names) || !w.again || !w.unseen(ctx) {
				break
			}
		}
		for key, name := range names {
			if made[key] != "" || ctx.Err() != nil {
				continue
			}
			t, err := w.registrar.MakeThing(ctx, kind, name)
			var refusal *system.Refusal
			switch {
			case err == nil:
				made[key] = t.ID
				w.seen = w.Now().Add(w.Settle)
				w.Batch.MadeThings = append(w.Batch.MadeThings, membership.Step{Kind: kind, Thing: t.ID, Name: name})
				if err := w.Ledger.Save(ctx, w.Batch); err != nil {
					return err
				}
			case isOpen(err):
				// It is made again only if it does not appear.
				w.seen = w.Now().Add(w.Settle)
				for made[key] == "" && w.unseen(ctx) {
					if err := look(); err != nil {
						return err
					}
				}
				if made[key] == "" {
					return err
				}
			case errors.As(err, &refusal):
				refused[key] = err
			default:
				return err
			}
		}
		for i := range window {
			e, failed := &window[i], false
			for n := range e.Steps {
				s := &e.Steps[n]
				if s.Kind != kind || s.Thing != "" || s.Do != membership.Join {
					continue
				}
				s.Thing = made[words.NameKey(s.Name)]
				if err := refused[words.NameKey(s.Name)]; err != nil {
					s.Result, failed = membership.Failed, true
					e.Find(account.Error, "system-refused", kind, "", fmt.Sprintf("“%s” does not exist and could not be made: %s", s.Name, err))
				}
			}
			if !failed {
				continue
			}
			if e.Settle(); e.Outcome == account.Waiting {
				w.open[e] = true // others of its steps are still to change
			} else {
				w.results <- ledger.Result{Entry: *e}
			}
		}
	}
	return nil
}

// tie carries out changes of one thing's members. If the system refuses them
// together, they are halved until those at fault stand alone; these come back in
// refused.
func (w *tieWork) tie(ctx context.Context, at thing, ties []tied, attempts int, refused *[]refusedTie) error {
	if len(ties) == 0 {
		return nil
	}
	wanted := make([]system.Tie, len(ties))
	for i, t := range ties {
		wanted[i] = system.Tie{Account: t.entry.Account, Role: t.step.Role, Section: t.step.Section, Was: t.step.Was != nil, Leave: t.step.Do == membership.Leave}
	}
	err := w.registrar.Tie(ctx, at.kind, at.id, wanted)
	var refusal *system.Refusal
	switch {
	case err == nil:
		w.settle(ties, membership.Done, "", "")
		return nil
	case errors.Is(err, system.ErrGone) && w.unseen(ctx):
		return w.tie(ctx, at, ties, attempts, refused)
	case errors.Is(err, system.ErrGone):
		w.settle(ties, membership.Failed, "thing-gone", fmt.Sprintf("“%s” is no longer in the system", ties[0].step.Name))
		return nil
	case errors.As(err, &refusal) && len(ties) > 1:
		half := len(ties) / 2
		if err := w.tie(ctx, at, ties[:half], attempts, refused); err != nil {
			return err
		}
		return w.tie(ctx, at, ties[half:], attempts, refused)
	case errors.As(err, &refusal), isOpen(err), errors.Is(err, system.ErrChanged):
		// It may be as wanted already: members come and go by other hands as well.
		left, lookErr := w.lookAt(ctx, at, ties)
		if lookErr != nil {
			return lookErr
		}
		if refusal != nil {
			for _, t := range left {
				*refused = append(*refused, refusedTie{t, refusal})
			}
			return nil
		}
		if attempts <= 1 {
			w.settle(left, membership.Failed, "unclear", fmt.Sprintf("the system gave no clear answer %d times", maxAttempts))
			return nil
		}
		return w.tie(ctx, at, left, attempts-1, refused)
	}
	return err
}

// lookAt reads a thing's members, settles what is as wanted and returns the rest.
func (w *tieWork) lookAt(ctx context.Context, at thing, ties []tied) ([]tied, error) {
	members := map[string]account.Membership{}
	for m, err := range w.registrar.Members(ctx, at.kind, []string{at.id}) {
		if err != nil {
			return nil, err
		}
		if m.Thing == at.id {
			members[m.Account] = m
		}
	}
	return w.sift(ties, members), nil
}

// sift settles the steps that are as wanted and returns the others.
func (w *tieWork) sift(ties []tied, members map[string]account.Membership) (left []tied) {
	var done []tied
	w.mu.Lock()
	for _, t := range ties {
		m, is := members[t.entry.Account]
		if t.step.Do == membership.Leave && !is || t.step.Do == membership.Join && is && m.Role == t.step.Role && m.Section == t.step.Section {
			done = append(done, t)
		} else {
			if t.step.Was = nil; is { // so that it is taken out first
				t.step.Was = &[2]string{m.Role, m.Section}
			}
			left = append(left, t)
		}
	}
	w.mu.Unlock()
	w.settle(done, membership.Done, "", "")
	return left
}

// look settles, of many things, what is as wanted already.
func (w *tieWork) look(ctx context.Context, things []thing) error {
	ids := map[string][]string{}
	for _, at := range things {
		ids[at.kind] = append(ids[at.kind], at.id)
	}
	for kind, some := range ids {
		members := map[string]map[string]account.Membership{}
		for m, err := range w.registrar.Members(ctx, kind, some) {
			if err != nil {
				return err
			}
			if members[m.Thing] == nil {
				members[m.Thing] = map[string]account.Membership{}
			}
			members[m.Thing][m.Account] = m
		}
		for _, id := range some {
			at := thing{kind, id}
			w.by[at] = w.sift(w.by[at], members[id])
		}
	}
	return nil
}

// noteOpen notes the steps that are done of entries of which others wait, when
// there is no more to do for now. Should it not come to that, they are looked up.
func (w *tieWork) noteOpen() {
	for e := range w.open {
		w.results <- ledger.Result{Entry: *e}
	}
}

// settle notes what became of steps. An entry is noted once all of its are settled.
func (w *tieWork) settle(ties []tied, result membership.Result, code, message string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, t := range ties {
		t.step.Result = result
		if result == membership.Failed {
			t.entry.Find(account.Error, code, t.step.Kind, "", fmt.Sprintf("the account is there, but not that it %s: %s", t.step.Text(), message))
		}
		t.entry.Settle()
		if w.open[t.entry] = true; t.entry.Outcome != account.Waiting {
			delete(w.open, t.entry)
			w.results <- ledger.Result{Entry: *t.entry} // nobody changes it any more
		}
	}
	w.advance(len(ties))
}
