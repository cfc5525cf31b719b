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
// them again: their fields, all that can be written, what they are members of, and who refers to them.
// Passwords are no field of an account. Of accounts that get another name by which others refer to them, it
// notes what does.
type keeper struct {
	ledger   store.Drafts
	system   system.System
	about    *system.Description
	together int

	renames []int                // rows whose accounts get another name
	turned  map[[2]string]bool   // accounts and their fields that are to refer to others
	removed map[string]bool      // accounts that the batch removes
	names   map[[2]string]string // of things, by kind and identifier
}

// note takes in what an entry is to do to names and to what refers by them.
func (k *keeper) note(e *batch.Entry) {
	if !k.about.Can.Refers || e.Account == "" || !e.Outcome.Waits() {
		return
	}
	if slices.ContainsFunc(e.Changes, func(c account.Change) bool { return slices.Contains(k.about.Can.Names, c.Field) }) {
		k.renames = append(k.renames, e.Row)
	}
	turn := func(field string) {
		if k.turned == nil {
			k.turned = map[[2]string]bool{}
		}
		k.turned[[2]string{e.Account, field}] = true
	}
	for _, c := range e.Changes {
		if k.about.Field(c.Field).Kind == account.Person {
			turn(c.Field)
		}
	}
	for _, s := range e.Steps {
		if s.Do == membership.Refer {
			turn(s.Kind)
		}
	}
}

// keep completes the entries of a batch that remove accounts, or call them otherwise.
func (k *keeper) keep(ctx context.Context, b *batch.Batch, waiting map[account.Intent]int) error {
	if waiting[account.Remove] > 0 {
		if err := k.keepRemoved(ctx, b.ID); err != nil {
			return err
		}
	}
	if len(k.renames) == 0 {
		return nil
	}
	n := &batch.Renames{}
	var err error
	if n.Server, err = k.system.(system.Follower).Follows(ctx); err != nil {
		return err
	}
	for rows := range slices.Chunk(k.renames, chunk) {
		var entries []batch.Entry
		for e, err := range k.ledger.Entries(ctx, b.ID, store.Filter{Rows: rows}) {
			if err != nil {
				return err
			}
			if e.Outcome.Waits() {
				entries = append(entries, e)
			}
		}
		steps, err := k.referring(ctx, entries)
		if err != nil {
			return err
		}
		for i := range entries {
			e := &entries[i]
			n.Accounts++
			all := steps[e.Account]
			for i := range all {
				if all[i].Before = e.Version; all[i].Holder {
					n.References++
				} else {
					n.Memberships++
				}
			}
			if len(all) == 0 {
				all = []membership.Step{{Do: membership.Stay, Before: e.Version}}
			}
			e.Steps = append(e.Steps, all...)
		}
		if err := k.ledger.Drafting(b.ID).Decide(ctx, entries); err != nil {
			return err
		}
	}
	if n.Accounts > 0 {
		b.Renames = n
	}
	return nil
}

// referring are the steps for what refers to the accounts of entries by name, but for what the batch itself changes.
func (k *keeper) referring(ctx context.Context, entries []batch.Entry) (map[string][]membership.Step, error) {
	steps := map[string][]membership.Step{}
	follower, is := k.system.(system.Follower)
	if !is {
		return steps, nil
	}
	var accounts []account.Account
	leaves := map[[2]string]bool{}
	for _, e := range entries {
		accounts = append(accounts, account.Account{ID: e.Account, Version: e.Version})
		for _, s := range e.Steps {
			if s.Do == membership.Leave {
				leaves[[2]string{e.Account, s.Thing}] = true
			}
		}
	}
	for r, err := range follower.Referring(ctx, accounts) {
		if err != nil {
			return nil, err
		}
		s := membership.Step{Do: membership.Stay, Kind: r.Kind, Thing: r.Holder, Name: r.Name}
		_, isThing := k.about.Kind(r.Kind)
		switch {
		case isThing && leaves[[2]string{r.Account, r.Holder}], k.turned[[2]string{r.Holder, r.Kind}], k.removed[r.Holder]:
			continue
		case !isThing:
			s.Holder = true
		}
		steps[r.Account] = append(steps[r.Account], s)
	}
	return steps, nil
}

// keepRemoved completes the entries of a batch that remove accounts.
func (k *keeper) keepRemoved(ctx context.Context, id int) error {
	k.removed, k.names = map[string]bool{}, map[[2]string]string{}
	for e, err := range k.ledger.Entries(ctx, id, store.Filter{Intents: []account.Intent{account.Remove}}) {
		if err != nil {
			return err
		}
		k.removed[e.Account] = true
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
		if err := k.ledger.Drafting(id).Decide(ctx, entries); err != nil {
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
	if !k.about.Can.Refers {
		return nil
	}
	steps, err := k.referring(ctx, entries)
	if err != nil {
		return err
	}
	for i := range entries {
		e := &entries[i]
		e.Steps = append(e.Steps, membership.Step{Do: membership.Stay, Before: e.Version})
		for _, s := range steps[e.Account] {
			if s.Result = membership.Goes; s.Holder { // memberships are noted above
				e.Steps = append(e.Steps, s)
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
