// Package readback reads out of a system what a batch did there, and tells where
// it is otherwise than it was to be.
//
// It changes nothing. It promises to look at all that was done with an entry, and at nothing
// that was not, in as few requests as the system lets it: accounts are found or listed, whichever
// is less, and who is in a thing is read thing by thing. What to make of a difference is left
// to others.
package readback

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/clock"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// window is how many entries are looked at together.
const window = 5000

// A Part is what of an entry a difference is about.
type Part uint8

// The parts.
const (
	OfField   Part = iota
	OfStep         // the step of that number
	OfAccount      // it is not there, or still there
	OfSignIn       // it may sign in, and was not to
)

// A Difference is something that is otherwise than it was to be.
type Difference struct {
	What  string `json:"what"` // a field, or a kind of membership
	Left  string `json:"left"` // how the batch left it
	Found string `json:"found"`

	Of   Part `json:"-"`
	Step int  `json:"-"` // with OfStep
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

	about *system.Description
}

// A Result is what a batch was found to have left.
type Result struct {
	Rows    []Row // that are otherwise, in their order
	Looked  int   // rows of which something was done
	Failed  int   // rows that the system refused, as a whole or in part
	Handed  int   // rows that were handed over, and of which nobody knows yet what became
	Waiting int   // rows that are still to be carried out, or of which it is open whether they were
}

// Even reports whether the batch was carried out and the system is as it left it.
func (r Result) Even() bool { return len(r.Rows)+r.Failed+r.Waiting+r.Handed == 0 }

// Read looks at every row of which something was done. What differs is looked at again until
// Within is over.
func (r *Reading) Read(ctx context.Context) (result Result, err error) {
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
			case account.HandedOver:
				result.Handed++
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
		differ, err := r.Compare(ctx, entries)
		if err != nil {
			return nil, err
		}
		if len(differ) == 0 || left <= 0 {
			return append(rows, differ...), nil
		}
		entries = Differing(entries, differ)
		pause = min(pause, left)
		left -= pause
		if err := r.Clock.Wait(ctx, pause); err != nil {
			return nil, err
		}
	}
}

// Differing keeps the entries that differ.
func Differing(entries []batch.Entry, differ []Row) []batch.Entry {
	again := map[int]bool{}
	for _, d := range differ {
		again[d.Row] = true
	}
	return slices.DeleteFunc(entries, func(e batch.Entry) bool { return !again[e.Row] })
}

// describe asks the system what it takes, once.
func (r *Reading) describe(ctx context.Context) (err error) {
	if r.about == nil {
		r.about, err = r.System.Describe(ctx)
	}
	return err
}

// Compare reads what was done with entries, and returns those that are otherwise.
func (r *Reading) Compare(ctx context.Context, entries []batch.Entry) (rows []Row, err error) {
	if len(entries) == 0 {
		return nil, nil
	}
	if err := r.describe(ctx); err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for i := range entries {
		if r.looks(&entries[i]) {
			wanted[entries[i].Account] = true
		}
	}
	now := &seen{accounts: map[string]account.Account{}}
	if len(wanted) > 0 {
		keys := map[string][]string{system.ByID: slices.Sorted(maps.Keys(wanted))}
		if _, err := system.Fetch(ctx, r.System, keys, r.fields(entries), r.Together, func(a account.Account) {
			if wanted[a.ID] {
				now.accounts[a.ID] = a
			}
		}); err != nil {
			return nil, err
		}
		if err := r.lookOneByOne(ctx, entries, now); err != nil {
			return nil, err
		}
	}
	if err := r.steps(ctx, entries, now); err != nil {
		return nil, err
	}
	for i := range entries {
		e := &entries[i]
		if d := r.differences(e, now); len(d) > 0 {
			rows = append(rows, Row{e.Row, e.Key, e.Account, d})
		}
	}
	return rows, nil
}

// mostOneByOne is how many accounts are asked for by themselves in one look.
const mostOneByOne = 500

// lookOneByOne asks for the accounts that were neither found nor listed and should be there: lists
// may leave out who may not sign in, and filters be of an index that comes late.
func (r *Reading) lookOneByOne(ctx context.Context, entries []batch.Entry, now *seen) error {
	var ids []string
	for i := range entries {
		e := &entries[i]
		if _, there := now.accounts[e.Account]; !there && e.Did != account.Removed && e.Intent != account.Remove && r.looks(e) && len(ids) < mostOneByOne {
			ids = append(ids, e.Account)
		}
	}
	fields := r.fields(entries)
	found := make([]account.Account, len(ids))
	group, asking := errgroup.WithContext(ctx)
	group.SetLimit(max(1, r.Together))
	for i, id := range ids {
		group.Go(func() (err error) {
			var refusal *system.Refusal
			if found[i], err = r.System.Get(asking, id, fields); errors.Is(err, system.ErrGone) || errors.As(err, &refusal) {
				found[i], err = account.Account{}, nil
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for i, id := range ids {
		if found[i].ID == id {
			now.accounts[id] = found[i]
		}
	}
	return nil
}

// CompareListed holds entries in which no step was done against their accounts, which were listed.
func (r *Reading) CompareListed(ctx context.Context, entries []batch.Entry, accounts map[string]account.Account) (rows []Row, err error) {
	if err := r.describe(ctx); err != nil {
		return nil, err
	}
	for i := range entries {
		e := &entries[i]
		if d := r.differences(e, &seen{accounts: accounts}); len(d) > 0 {
			rows = append(rows, Row{e.Row, e.Key, e.Account, d})
		}
	}
	return rows, nil
}

// fields are those that have to be read of the accounts of entries.
func (r *Reading) fields(entries []batch.Entry) (fields []string) {
	known := map[string]bool{}
	for i := range entries {
		known[r.about.Naming] = true
		if r.about.Suspension.Field != "" {
			known[r.about.Suspension.Field] = true
		}
		for _, c := range entries[i].Done() {
			known[c.Field] = true
		}
		for _, s := range entries[i].Steps {
			if s.Do == membership.Refer {
				known[s.Kind] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(known))
}

// looks reports whether the entry's account has to be looked at: of one of which only memberships
// were changed, those tell.
func (r *Reading) looks(e *batch.Entry) bool {
	if e.Did == account.Created || e.Did == account.Removed || len(e.Done()) > 0 {
		return true
	}
	ties := 0
	for _, s := range e.Steps {
		switch {
		case s.Result != membership.Done && s.Result != membership.Already:
		case s.InThing():
			ties++
		case s.Do == membership.Refer, s.Do == membership.Renew:
			return true
		}
	}
	return ties == 0
}

// seen is what a system shows.
type seen struct {
	accounts map[string]account.Account
	members  membership.Register
	referred map[int]string // row → its account
	files    map[int]int    // row → files that are still by its numbers before
}

// steps reads what the steps of entries did.
func (r *Reading) steps(ctx context.Context, entries []batch.Entry, now *seen) (err error) {
	things, known := map[string][]string{}, map[[2]string]bool{}
	ours := map[string]bool{}
	var targets []int
	for i := range entries {
		ours[entries[i].Account] = true
		for _, s := range entries[i].Steps {
			switch {
			case s.Result != membership.Done && s.Result != membership.Already:
			case s.Do == membership.Refer:
				targets = append(targets, s.Row)
			case s.InThing() && !known[[2]string{s.Kind, s.Thing}]:
				known[[2]string{s.Kind, s.Thing}] = true
				things[s.Kind] = append(things[s.Kind], s.Thing)
			}
		}
	}
	for kind, ids := range things {
		if err := now.members.Read(ctx, r.System, kind, ids, func(id string) bool { return ours[id] }, membership.Silent); err != nil {
			return err
		}
	}
	if len(targets) > 0 {
		if now.referred, _, err = r.Ledger.Accounts(ctx, r.Batch.ID, targets); err != nil {
			return err
		}
	}
	return r.files(ctx, entries, now)
}

// files counts, in one walk, the files that are still by numbers before. Numbers that others
// have by now tell nothing.
func (r *Reading) files(ctx context.Context, entries []batch.Entry, now *seen) error {
	if r.Batch.Reown == nil {
		return nil
	}
	var numbers []system.Renumbered
	var rows []int
	var taken [2]map[int]bool
	taken[0], taken[1] = map[int]bool{}, map[int]bool{}
	for i := range entries {
		for _, s := range entries[i].Steps {
			if n := s.Numbers; n != nil && s.Result == membership.Done {
				numbers, rows = append(numbers, *n), append(rows, entries[i].Row)
				taken[0][n.User[1]], taken[1][n.Group[1]] = true, true
			}
		}
	}
	if len(numbers) == 0 {
		return nil
	}
	owned, err := system.Reown(ctx, nil, r.System, *r.Batch.Reown, numbers, true, func(int) {})
	if err != nil {
		return err
	}
	now.files = map[int]int{}
	for i, n := range numbers {
		if i >= len(owned) {
			break
		}
		if !taken[0][n.User[0]] {
			now.files[rows[i]] += owned[i].User
		}
		if !taken[1][n.Group[0]] {
			now.files[rows[i]] += owned[i].Group
		}
	}
	return nil
}

// differences compares one entry with its account as it is now.
func (r *Reading) differences(e *batch.Entry, now *seen) (all []Difference) {
	schema := r.about.Schema
	a, there := now.accounts[e.Account]
	switch gone := e.Did == account.Removed || e.Intent == account.Remove && e.Did == account.Unchanged; {
	case gone && there:
		found := "it is there"
		if schema.IsSuspended(&a) {
			found = "it is there, and may not sign in"
		}
		return []Difference{{What: "account", Left: "removed", Found: found, Of: OfAccount}}
	case gone:
		return nil
	case !there && r.looks(e):
		return []Difference{{What: "account", Left: string(e.Did), Found: "it is not there", Of: OfAccount}}
	}
	mark := schema.Suspension
	if there && mark.Field != "" && e.Left()[mark.Field].Text() == mark.Off && !schema.IsSuspended(&a) {
		all = append(all, Difference{What: mark.Field, Left: mark.Off, Found: a.Field(mark.Field).Text(), Of: OfSignIn})
	}
	for _, c := range e.Done() {
		f := schema.Field(c.Field)
		is := a.Field(c.Field).Text()
		if f.Same(is, c.After.Text()) || is == "" && f.Kind == account.YesNo && c.After.Text() == "false" || c.Field == mark.Field && (c.After.Text() == mark.Off || !schema.IsSuspended(&a)) {
			continue
		}
		all = append(all, Difference{What: c.Field, Left: c.After.Text(), Found: is})
	}
	return append(all, r.stepsDiffer(e, &a, now)...)
}

// stepsDiffer compares the steps of an entry that were done with what there is now.
func (r *Reading) stepsDiffer(e *batch.Entry, a *account.Account, now *seen) (all []Difference) {
	for n, s := range e.Steps {
		add := func(what, left, found string) {
			all = append(all, Difference{What: what, Left: left, Found: found, Of: OfStep, Step: n})
		}
		m, member := now.members.In(e.Account, s.Kind, s.Thing)
		switch {
		case s.Result != membership.Done && s.Result != membership.Already:
		case s.Do == membership.Refer:
			if is := a.Field(s.Kind).Text(); !r.about.Field(s.Kind).Same(is, now.referred[s.Row]) {
				add(s.Kind, fmt.Sprintf("%s (%s)", s.Name, now.referred[s.Row]), is)
			}
		case s.Do == membership.Reown && now.files[e.Row] > 0:
			add("files", s.Text(), fmt.Sprintf("%d are by the number before", now.files[e.Row]))
		case s.Do == membership.Leave && member:
			add(s.Kind, "not in "+s.Name, "in "+account.MembershipText(s.Name, m.Role, m.Section))
		case s.Do == membership.Stay && s.InThing() && !member:
			add(s.Kind, "in "+s.Name, "not in it")
		case s.Do == membership.Join && !member:
			add(s.Kind, "in "+account.MembershipText(s.Name, s.Role, s.Section), "not in it")
		case s.Do == membership.Join && (m.Role != s.Role || m.Section != s.Section):
			add(s.Kind, "in "+account.MembershipText(s.Name, s.Role, s.Section), "in "+account.MembershipText(s.Name, m.Role, m.Section))
		}
	}
	return all
}
