package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"

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
		window = slices.DeleteFunc(window, func(e batch.Entry) bool {
			n, waits := files(&e)
			if waits {
				numbers = append(numbers, n)
			}
			return !waits
		})
		if len(window) == 0 || p.Batch.Reown == nil {
			return nil
		}
		p.begin("owners of files", len(window))
		owned, err := system.Reown(system.Ending(ctx), p.System, *p.Batch.Reown, numbers, false, func(int) {})
		var refusal *system.Refusal
		if err != nil && !errors.As(err, &refusal) {
			return err // a further post walks again
		}
		for i := range window {
			e := &window[i]
			step := &e.Steps[reowning(e)]
			step.Result = membership.Done
			if refusal != nil {
				step.Result = membership.Failed
				e.Find(account.Error, refusal.Code, "", "", refusal.Message)
			} else if n := owned[i]; n.User+n.Group > 0 {
				step.Role = fmt.Sprintf("%d re-owned beyond those that went with the account", n.User+n.Group-n.Both)
			}
			e.Settle()
			p.advance(1)
			p.results <- resultOf(e)
		}
		return nil
	})
}

// reowning returns which of an entry's steps re-owns files and waits; -1: none.
func reowning(e *batch.Entry) int {
	return slices.IndexFunc(e.Steps, func(s membership.Step) bool { return s.Do == membership.Reown && s.Result == "" })
}

// files returns the numbers by which an entry's files are to be re-owned.
func files(e *batch.Entry) (n system.Renumbered, waits bool) {
	at := reowning(e)
	if at < 0 {
		return n, false
	}
	return batch.Renumbered(e.Steps[at])
}
