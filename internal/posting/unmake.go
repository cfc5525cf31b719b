package posting

import (
	"context"
	"errors"
	"slices"

	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

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
		if s.Result != "" {
			continue
		}
		s.Result = membership.Unsent
		// A place in which something stands cannot be removed, whatever the system shows.
		about, _ := p.about.Kind(s.Kind)
		if !p.about.Can.Unmakes || about.Place == "" && !shown[[2]string{s.Kind, s.Thing}] {
			continue
		}
		used := false
		for m, err := range p.System.Members(ctx, s.Kind, []string{s.Thing}) {
			if err != nil {
				return err
			}
			used = used || m.Thing == s.Thing
		}
		if used {
			continue
		}
		err := p.System.RemoveThing(ctx, s.Kind, s.Thing)
		var refusal *system.Refusal
		switch {
		case err == nil, errors.Is(err, system.ErrGone):
			s.Result = membership.Done
		case errors.As(err, &refusal):
			s.Result = membership.Failed
		default:
			s.Result = "" // a further post looks again
			return err
		}
	}
	return nil
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
