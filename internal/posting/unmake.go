package posting

import (
	"context"
	"errors"

	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// unmake removes the things that the batch undone had made, if nobody is in them. The
// system is looked at for each just before: what somebody uses by now stays.
func (p *Post) unmake(ctx context.Context) error {
	unmaker, ok := p.System.(system.Unmaker)
	for i := range p.Batch.Unmakes {
		s := &p.Batch.Unmakes[i]
		if s.Result != "" {
			continue
		}
		s.Result = membership.Unsent
		if !ok {
			continue
		}
		used := false
		for m, err := range unmaker.Members(ctx, s.Kind, []string{s.Thing}) {
			if err != nil {
				return err
			}
			used = used || m.Thing == s.Thing
		}
		if used {
			continue
		}
		err := unmaker.RemoveThing(ctx, s.Kind, s.Thing)
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
