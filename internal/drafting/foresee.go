package drafting

import (
	"context"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// foresee adds to the entries of a batch what the system can tell beforehand: what would be refused when it is sent is refused now.
// refused is told of each entry that is, before it is.
func foresee(ctx context.Context, ledger store.Drafts, s system.System, id int, refused func(*batch.Entry)) error {
	foreseer, is := s.(system.Foreseer)
	if !is {
		return nil
	}
	for after := 0; ; {
		var entries []batch.Entry
		var all []system.Intended
		for e, err := range ledger.Entries(ctx, id, store.Filter{Outcomes: []account.Outcome{account.Waiting}, After: after, Limit: chunk}) {
			if err != nil {
				return err
			}
			entries = append(entries, e)
			all = append(all, e.Intended())
		}
		if len(entries) == 0 {
			return nil
		}
		after = entries[len(entries)-1].Row
		findings, err := foreseer.Foresee(ctx, all)
		if err != nil {
			return err
		}
		var told []batch.Entry
		for i, e := range entries {
			for _, f := range findings[i] {
				e.Find(f.Level, f.Code, f.Field, "", f.Message)
				e.Findings[len(e.Findings)-1].Remedy = f.Remedy
			}
			if account.HasError(findings[i]) {
				refused(&e)
				e.Refuse()
			}
			if len(findings[i]) > 0 {
				told = append(told, e)
			}
		}
		if err := ledger.Drafting(id).Decide(ctx, told); err != nil {
			return err
		}
	}
}
