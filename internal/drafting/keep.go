package drafting

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// A keeper keeps what there is of accounts that are to be removed, so that undoing it can make
// them again: their fields, all that can be written, and what they are members of. Passwords are
// no field of an account.
type keeper struct {
	ledger   store.Drafts
	system   system.System
	about    *system.Description
	together int

	removed map[string]bool      // accounts that the batch removes
	names   map[[2]string]string // of things, by kind and identifier
}

// keep completes the entries of a batch that remove accounts.
func (k *keeper) keep(ctx context.Context, id int) error {
	k.removed, k.names = map[string]bool{}, map[[2]string]string{}
	for e, err := range k.ledger.Entries(ctx, id, store.Filter{Intents: []account.Intent{account.Remove}}) {
		if err != nil {
			return err
		}
		k.removed[e.Account] = true
	}
	if len(k.removed) == 0 {
		return nil
	}
	members, err := k.members(ctx)
	if err != nil {
		return err
	}
	for after := 0; ; {
		var entries []batch.Entry
		for e, err := range k.ledger.Entries(ctx, id, store.Filter{Intents: []account.Intent{account.Remove}, After: after, Limit: chunk}) {
			if err != nil {
				return err
			}
			entries = append(entries, e)
		}
		if len(entries) == 0 {
			return nil
		}
		after = entries[len(entries)-1].Row
		if err := k.keepAll(ctx, entries, members); err != nil {
			return err
		}
		if err := k.ledger.Decide(ctx, id, entries); err != nil {
			return err
		}
	}
}

// writable are the fields that an account could be made again with.
func (k *keeper) writable() (fields []string) {
	for _, a := range k.about.Attributes {
		if !a.ReadOnly {
			fields = append(fields, a.Field)
		}
	}
	return fields
}

func (k *keeper) keepAll(ctx context.Context, entries []batch.Entry, members *membership.Register) error {
	now, ids := map[string]account.Account{}, []string{}
	for _, e := range entries {
		ids = append(ids, e.Account)
		now[e.Account] = account.Account{}
	}
	fields := k.writable()
	if _, err := system.Fetch(ctx, k.system, map[string][]string{system.ByID: ids}, fields, k.together, func(a account.Account) {
		if _, wanted := now[a.ID]; wanted {
			now[a.ID] = a
		}
	}); err != nil {
		return err
	}
	for i := range entries {
		e := &entries[i]
		if e.Known == nil {
			e.Known = map[string]account.Value{}
		}
		for _, name := range fields {
			if v := now[e.Account].Field(name); v.Filled() && !e.Known[name].Present() {
				e.Known[name] = v
			}
		}
		for _, kind := range k.about.Kinds {
			of := members.Of(e.Account, kind.Name)
			for _, thing := range slices.Sorted(maps.Keys(of)) {
				m := of[thing]
				e.Steps = append(e.Steps, membership.Step{Do: membership.Leave, Kind: kind.Name, Thing: thing, Name: cmp.Or(k.names[[2]string{kind.Name, thing}], thing), Was: &[2]string{m.Role, m.Section}, Result: membership.Goes})
			}
		}
	}
	return nil
}

// members reads who is in what, of all kinds that the system shows.
func (k *keeper) members(ctx context.Context) (*membership.Register, error) {
	all := &membership.Register{}
	for _, kind := range k.about.Kinds {
		if kind.Field != "" || kind.Place != "" || kind.Blind != "" {
			continue
		}
		for t, err := range k.system.Things(ctx, kind.Name, false) {
			if err != nil {
				return nil, err
			}
			k.names[[2]string{kind.Name, t.ID}] = t.Name
		}
		if err := all.Read(ctx, k.system, kind.Name, nil, func(id string) bool { return k.removed[id] }, membership.Silent); err != nil {
			return nil, err
		}
	}
	return all, nil
}
