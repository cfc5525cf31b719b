package posting

import (
	"context"
	"errors"
	"slices"

	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// noteMaking notes that a thing is about to be made which did not exist before.
func (p *run) noteMaking(ctx context.Context, kind, name string) error {
	if slices.ContainsFunc(p.Batch.MadeThings, func(s membership.Step) bool { return s.Kind == kind && s.Name == name }) {
		return nil
	}
	p.Batch.MadeThings = append(p.Batch.MadeThings, membership.Step{Kind: kind, Name: name, Result: membership.Sending})
	return p.Ledger.Save(ctx, p.Batch)
}

// noteUnmade notes that a thing was refused.
func (p *run) noteUnmade(ctx context.Context, kind, name string) error {
	before := len(p.Batch.MadeThings)
	p.Batch.MadeThings = slices.DeleteFunc(p.Batch.MadeThings, func(s membership.Step) bool {
		return s.Kind == kind && s.Name == name && s.Result == membership.Sending
	})
	if len(p.Batch.MadeThings) == before {
		return nil
	}
	return p.Ledger.Save(context.WithoutCancel(ctx), p.Batch) // it was asked for, and this is what came of it
}

// noteMade notes that a thing is there. It is ours if the answer said so, or if we were making it when an
// answer was lost or a post was cut short.
func (p *run) noteMade(ctx context.Context, kind, name, id string) error {
	for i := range p.Batch.MadeThings {
		if s := &p.Batch.MadeThings[i]; s.Kind == kind && s.Name == name && s.Result == membership.Sending {
			s.Thing, s.Result = id, ""
			return p.Ledger.Save(context.WithoutCancel(ctx), p.Batch) // it was asked for, and this is what came of it
		}
	}
	return nil
}

// unmake removes the things that the batch undone had made, if nobody is in them. The
// system is looked at for each just before: what somebody uses by now stays. So does a
// thing in which the system never showed anybody: it may be one that shows no members,
// and then a thing full of people looks as empty as any.
func (p *run) unmake(ctx context.Context) error {
	shown, err := p.tookFrom(ctx)
	if err != nil {
		return err
	}
	for i := range slices.Backward(p.Batch.Unmakes) { // what stands in another was made after it
		s := &p.Batch.Unmakes[i]
		if p.Batch.Unmade.Of(i) != "" {
			continue
		}
		p.Batch.Unmade.Note(i, membership.Unsent)
		// A place in which something stands cannot be removed, whatever the system shows.
		about, _ := p.about.Kind(s.Kind)
		if !p.about.Can.Unmakes || about.Place == "" && !shown[[2]string{s.Kind, s.Thing}] {
			continue
		}
		used, err := p.isUsed(ctx, s, about.Filled)
		if err != nil {
			return err
		}
		if used {
			continue
		}
		err = p.System.RemoveThing(ctx, p.may, s.Kind, s.Thing)
		var refusal *system.Refusal
		switch {
		case err == nil, errors.Is(err, system.ErrGone):
			p.Batch.Unmade.Note(i, membership.Done)
		case errors.As(err, &refusal):
			p.Batch.Unmade.Note(i, membership.Failed)
		default:
			p.Batch.Unmade.Note(i, "") // a further post looks again
			return err
		}
	}
	return nil
}

// emptied removes the things that the batch undone had made and that all leave who are in them, where a
// thing has a member always: the last could not leave.
func (w *tieWork) emptied(ctx context.Context, work map[thing][]tied) error {
	for i := range w.Batch.Unmakes {
		s := &w.Batch.Unmakes[i]
		at := thing{s.Kind, s.Thing}
		about, _ := w.about.Kind(s.Kind)
		if w.Batch.Unmade.Of(i) != "" || !about.Filled || !w.about.Can.Unmakes || len(work[at]) == 0 || ctx.Err() != nil {
			continue
		}
		leaving := map[string]bool{}
		for _, t := range work[at] {
			leaving[t.entry.Account] = t.step.Do == membership.Leave
		}
		others := false
		for m, err := range w.System.Members(ctx, s.Kind, []string{s.Thing}) {
			if err != nil {
				return err
			}
			others = others || m.Thing == s.Thing && !leaving[m.Account]
		}
		if others {
			continue
		}
		if err := w.claim(ctx, work[at]); err != nil {
			return err
		}
		err := w.System.RemoveThing(ctx, w.may, s.Kind, s.Thing)
		if err != nil && !errors.Is(err, system.ErrGone) {
			var refusal *system.Refusal
			if errors.As(err, &refusal) {
				w.undone(work[at])
				continue // one by one, as far as they can leave
			}
			return err
		}
		w.Batch.Unmade.Note(i, membership.Done)
		if err := w.Ledger.Save(context.WithoutCancel(ctx), w.Batch); err != nil {
			return err
		}
		w.settle(work[at], membership.Done, "", "")
		delete(work, at)
	}
	return nil
}

// isUsed reports whether somebody is in a thing. One that has a member always may have the name of
// somebody who is gone.
func (p *run) isUsed(ctx context.Context, s *membership.Step, filled bool) (bool, error) {
	var in []string
	for m, err := range p.System.Members(ctx, s.Kind, []string{s.Thing}) {
		if err != nil {
			return false, err
		}
		if m.Thing == s.Thing {
			in = append(in, m.Account)
		}
	}
	if !filled || len(in) > 1 {
		return len(in) > 0, nil
	}
	for _, id := range in {
		var refusal *system.Refusal
		if _, err := p.System.Get(ctx, id, nil); err == nil {
			return true, nil
		} else if !errors.Is(err, system.ErrGone) && !errors.As(err, &refusal) {
			return false, err
		}
	}
	return false, nil
}

// tookFrom lists, by kind and id, the things that the batch took people out of: the system
// had shown them there.
func (p *run) tookFrom(ctx context.Context) (map[[2]string]bool, error) {
	things := map[[2]string]bool{}
	for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{}) {
		if err != nil {
			return nil, err
		}
		for _, s := range e.Steps {
			if s.Do == membership.Leave {
				things[[2]string{s.Kind, s.Thing}] = true
			}
		}
	}
	return things, nil
}
