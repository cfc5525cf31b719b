// Package readback reads out of a system what a batch did there, and tells where
// it is otherwise than the batch left it.
//
// It changes nothing. It promises to look at every entry that was carried out, and
// at nothing that was not.
package readback

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/clock"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// window is how many entries are looked at together.
const window = 5000

// A Difference is something that is otherwise than the batch left it.
type Difference struct {
	What  string `json:"what"` // a field, or a kind of membership
	Left  string `json:"left"` // how the batch left it
	Found string `json:"found"`
}

// A Row is an entry with its differences; none: the system is even with it.
type Row struct {
	Row         int          `json:"row"`
	Key         string       `json:"key"`
	Account     string       `json:"account"`
	Differences []Difference `json:"differences"`
}

// A Reading reads a batch back.
type Reading struct {
	Ledger   store.Reader
	System   system.System
	Batch    *batch.Batch
	Together int
	Within   time.Duration // how long what was done may stay unseen
	Clock    clock.Clock
	Progress func(stage string, n int) // may be nil

	schema *account.Schema
}

// A Result is what a batch was found to have left.
type Result struct {
	Rows    []Row // that are otherwise, in their order
	Looked  int   // rows that were carried out
	Failed  int   // rows that the system refused, as a whole or in part
	Waiting int   // rows that are still to be carried out, or of which it is open whether they were
}

// Even reports whether the batch was carried out and the system is as it left it.
func (r Result) Even() bool { return len(r.Rows)+r.Failed+r.Waiting == 0 }

// Read looks at every row that was carried out. What differs is looked at again until
// Within is over.
func (r *Reading) Read(ctx context.Context) (result Result, err error) {
	about, err := r.System.Describe(ctx)
	if err != nil {
		return result, err
	}
	r.schema = about.Schema
	for after := 0; ; {
		var entries []batch.Entry
		read := 0
		for e, err := range r.Ledger.Entries(ctx, r.Batch.ID, store.Filter{After: after, Limit: window}) {
			if err != nil {
				return Result{}, err
			}
			read, after = read+1, e.Row
			switch e.Outcome {
			case account.Failed:
				result.Failed++
			case account.Waiting:
				result.Waiting++
			}
			if e.Did != "" {
				entries = append(entries, e)
			}
		}
		if read == 0 {
			break
		}
		result.Looked += len(entries)
		if result.Rows, err = r.readAll(ctx, entries, result.Rows); err != nil {
			return Result{}, err
		}
		if r.Progress != nil {
			r.Progress("read back", result.Looked)
		}
	}
	return result, nil
}

// readAll reads entries until they are as they were left, or the time is over.
func (r *Reading) readAll(ctx context.Context, entries []batch.Entry, rows []Row) ([]Row, error) {
	left := r.Within
	for pause := 250 * time.Millisecond; ; pause = min(2*pause, 10*time.Second) {
		differ, err := r.compare(ctx, entries)
		if err != nil {
			return nil, err
		}
		if len(differ) == 0 || left <= 0 {
			return append(rows, differ...), nil
		}
		again := map[int]bool{}
		for _, d := range differ {
			again[d.Row] = true
		}
		entries = slices.DeleteFunc(entries, func(e batch.Entry) bool { return !again[e.Row] })
		pause = min(pause, left)
		left -= pause
		if err := r.Clock.Wait(ctx, pause); err != nil {
			return nil, err
		}
	}
}

func (r *Reading) compare(ctx context.Context, entries []batch.Entry) ([]Row, error) {
	if len(entries) == 0 {
		return nil, nil
	}
	wanted := map[string]bool{}
	fields := map[string]bool{r.schema.Naming: true}
	things := map[string][]string{}
	var targets []int
	for _, e := range entries {
		wanted[e.Account] = true
		for _, c := range e.Changes {
			fields[c.Field] = true
		}
		for _, s := range e.Steps {
			if s.Do == membership.Refer {
				targets, fields[s.Kind] = append(targets, s.Row), true
			} else if s.IsTie() && s.Result == membership.Done && !slices.Contains(things[s.Kind], s.Thing) {
				things[s.Kind] = append(things[s.Kind], s.Thing)
			}
		}
	}
	now := map[string]account.Account{}
	keys := map[string][]string{system.ByID: slices.Sorted(maps.Keys(wanted))}
	if _, err := system.Fetch(ctx, r.System, keys, slices.Sorted(maps.Keys(fields)), r.Together, func(a account.Account) {
		if wanted[a.ID] {
			now[a.ID] = a
		}
	}); err != nil {
		return nil, err
	}
	has := &membership.Register{}
	for kind, ids := range things {
		if err := has.Read(ctx, r.System, kind, ids, func(id string) bool { return wanted[id] }, membership.Silent); err != nil {
			return nil, err
		}
	}
	referred, _, err := r.Ledger.Accounts(ctx, r.Batch.ID, targets)
	if err != nil {
		return nil, err
	}
	var rows []Row
	for _, e := range entries {
		if d := r.differences(&e, now, has, referred); len(d) > 0 {
			rows = append(rows, Row{e.Row, e.Key, e.Account, d})
		}
	}
	return rows, nil
}

// differences compares one entry with its account as it is now.
func (r *Reading) differences(e *batch.Entry, now map[string]account.Account, has *membership.Register, referred map[int]string) (all []Difference) {
	add := func(what, left, found string) { all = append(all, Difference{what, left, found}) }
	a, there := now[e.Account]
	switch {
	case e.Did == account.Removed && there:
		add("account", "removed", "it is there")
		return all
	case e.Did == account.Removed:
		return nil
	case !there:
		add("account", string(e.Did), "it is not there")
		return all
	}
	for _, c := range e.Changes {
		if is := a.Field(c.Field).Text(); !r.schema.Field(c.Field).Same(is, c.After.Text()) && !(is == "" && r.schema.Field(c.Field).Kind == account.YesNo && c.After.Text() == "false") {
			add(c.Field, c.After.Text(), is)
		}
	}
	return append(all, stepsDiffer(e, &a, has, referred)...)
}

// stepsDiffer compares the steps of an entry that were done with what there is now.
func stepsDiffer(e *batch.Entry, a *account.Account, has *membership.Register, referred map[int]string) (all []Difference) {
	add := func(what, left, found string) { all = append(all, Difference{what, left, found}) }
	for _, s := range e.Steps {
		m, member := has.In(e.Account, s.Kind, s.Thing)
		switch {
		case s.Result != membership.Done:
		case s.Do == membership.Refer:
			if is := a.Field(s.Kind).Text(); is != referred[s.Row] {
				add(s.Kind, fmt.Sprintf("%s (%s)", s.Name, referred[s.Row]), is)
			}
		case s.Do == membership.Leave && member:
			add(s.Kind, "not in "+s.Name, "in "+account.MembershipText(s.Name, m.Role, m.Section))
		case s.Do == membership.Join && !member:
			add(s.Kind, "in "+account.MembershipText(s.Name, s.Role, s.Section), "not in it")
		case s.Do == membership.Join && (m.Role != s.Role || m.Section != s.Section):
			add(s.Kind, "in "+account.MembershipText(s.Name, s.Role, s.Section), "in "+account.MembershipText(s.Name, m.Role, m.Section))
		}
	}
	return all
}
