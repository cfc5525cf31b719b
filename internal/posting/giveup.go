package posting

import (
	"context"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// GiveUp has rows that wait, as nobody could find out what became of them or what they wait for does not
// come, count as failed: a person said so, who is named at each. Nothing is sent, and nothing more of them
// is looked for. It returns how many there were.
func (p *Post) GiveUp(ctx context.Context, rows []int, by string) (n int, err error) {
	if p.Batch.Posted.IsZero() {
		return 0, &batch.Guard{Message: fmt.Sprintf("nothing of batch %d was posted, so that there is nothing to give up", p.Batch.ID), Remedy: fmt.Sprintf("To put the draft away: evenledger withdraw %d", p.Batch.ID), Wrong: true}
	}
	err = p.alone(ctx, func(ctx context.Context, r *run) error {
		var given []store.Result
		for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Rows: rows, Outcomes: account.Open()}) {
			if err != nil {
				return err
			}
			r.giveUp(&e, by)
			given = append(given, store.Result{Entry: e})
		}
		n = len(given)
		return r.settle(ctx, given)
	})
	return n, err
}

func (p *run) giveUp(e *batch.Entry, by string) {
	why := "it was still to be done"
	if i := slices.IndexFunc(e.Findings, func(f account.Finding) bool { return f.Code == notYet || f.Code == account.TakenIn }); i >= 0 {
		why = e.Findings[i].Message
	}
	if e.Place != nil && e.Place.File != "" {
		why = fmt.Sprintf("it was handed over in %s, line %d, and nobody knows what the application made of it", e.Place.File, e.Place.Line)
	}
	p.clear(e)
	if e.Did == "" {
		e.Outcome = account.Failed
		unsent(e)
	}
	for i := range e.Steps {
		switch s := &e.Steps[i]; {
		case !s.Waits():
		case s.Result == "":
			s.Result = membership.Unsent
		case s.Within():
			s.Result = membership.Failed
		default:
			s.Result = membership.Unclear
		}
	}
	if e.Did != "" && slices.Contains([]batch.Proof{"", batch.Unseen, batch.Shown}, e.Proof) {
		e.Proof = batch.Otherwise
	}
	e.Find(account.Error, account.GivenUp, "", "", fmt.Sprintf("given up by %s: %s", by, why))
	if e.Did != "" {
		e.Outcome = account.Failed
	}
}
