package posting

import (
	"context"
	"errors"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// reown gives files to the new numbers of accounts, in one walk for all of a window. It is begun
// anew when it broke off: what was done stays as it is.
func (p *run) reown(ctx context.Context, _ func(error)) error {
	return p.pending(ctx, membership.Reown, func(window []batch.Entry) error {
		var numbers []system.Renumbered
		if p.Batch.Reown == nil {
			return nil
		}
		for i := range window {
			numbers = append(numbers, *stepOf(&window[i], membership.Reown).Numbers)
		}
		p.begin("owners of files", len(window))
		_, err := system.Reown(ctx, p.may, p.System, *p.Batch.Reown, numbers, false, func(int) {})
		var refusal *system.Refusal
		if err != nil && !errors.As(err, &refusal) {
			return err // a further post walks again
		}
		for i := range window {
			e := &window[i]
			step := stepOf(e, membership.Reown)
			step.Result = membership.Done
			if refusal != nil {
				step.Result = membership.Failed
				e.Find(account.Error, refusal.Code, "", "", refusal.Message)
			}
			e.Settle()
			p.advance(1)
			p.results <- resultOf(e)
		}
		return nil
	})
}
