package inquiry

import (
	"context"
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Trials answers which accounts batches that were marked as trials have made in a system, and
// which of these are still there.
func Trials(ctx context.Context, s system.System, l store.Store, name string, together int, told func(stage string, n int)) (Table, error) {
	about, err := s.Describe(ctx)
	if err != nil {
		return Table{}, err
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return Table{}, err
	}
	type made struct {
		of    *batch.Batch
		entry batch.Entry
	}
	var by []made
	var ids []string
	for i := range all {
		if all[i].Trial == "" || all[i].System != name {
			continue
		}
		for e, err := range l.Entries(ctx, all[i].ID, store.Filter{}) {
			if err != nil {
				return Table{}, err
			}
			if e.Did == account.Created {
				by, ids = append(by, made{&all[i], e}), append(ids, e.Account)
			}
		}
	}
	there := map[string]account.Account{}
	if len(ids) > 0 {
		_, err = system.Fetch(ctx, s, map[string][]string{system.ByID: ids}, []string{about.Naming, "displayName", "givenName", "familyName", about.Suspension.Field}, together, func(a account.Account) {
			there[a.ID] = a
			told("looked at accounts", len(there))
		})
		if err != nil {
			return Table{}, err
		}
	}
	table := Table{Headings: []string{"Trial", "Batch", "Row", "Account", "Name", "State"}}
	for _, m := range by {
		a, still := there[m.entry.Account]
		state := "gone"
		if still && about.IsSuspended(&a) {
			state = "suspended"
		} else if still {
			state = "there"
		}
		label := a.Field(about.Naming).Text()
		if label == "" {
			label = m.entry.Key
		}
		table.Lines = append(table.Lines, Line{[]string{m.of.Trial, strconv.Itoa(m.of.ID), strconv.Itoa(m.entry.Row), label, nameOf(&a), state}, m.entry.Account})
	}
	return table, nil
}
