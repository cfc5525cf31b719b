package drafting

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/presence"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// A Reversal is a batch that undoes another, step by step, as far as nobody has
// changed since what that one did. Its entries bear the rows of the other's.
type Reversal struct {
	Ledger   store.Drafts
	Worker   store.Worker                              // this process
	Sign     func(context.Context, *batch.Batch) error // as in Draft
	System   system.System
	URL      string // at which it is
	Of       *batch.Batch
	Remove   bool // accounts that were created are removed, not suspended
	Elevated map[string][]string
	Allow    bool // elevated rights may be given back
	Protect  []string
	Together int
	// Takes reports whether an entry is to be undone; nil: all are. Says is that in words.
	Takes    func(*batch.Entry) (bool, error)
	Says     string
	Batch    batch.Batch                  // what the caller knows of it
	Progress func(stage string, rows int) // may be nil

	about     *system.Description
	catalogue *membership.Catalogue
	keeper    *keeper
	stays     map[string]int // what was done and is not taken back
	taken     int            // entries that are undone
}

// ErrNoRow means that nothing was done with the rows that a reversal was to take.
var ErrNoRow = errors.New("the batch did nothing with any of these rows")

// Make makes the batch and returns it. A batch that may not be undone is a *batch.Guard,
// and then nothing was made. The caller has locked "draft".
func (r *Reversal) Make(ctx context.Context) (*batch.Batch, error) {
	if err := r.Of.MayReverse(r.URL); err != nil {
		return nil, err
	}
	var err error
	if r.about, err = r.System.Describe(ctx); err != nil {
		return nil, err
	}
	r.stays = map[string]int{}
	r.keeper = &keeper{ledger: r.Ledger, system: r.System, about: r.about, together: r.Together}
	b := &r.Batch
	b.Protect, b.Mark = slices.Concat(r.Of.Protect, r.Protect), r.about.Suspension
	if b.Taken = r.Says; r.Takes == nil { // others may still be in what it made
		b.Unmakes = slices.DeleteFunc(slices.Clone(r.Of.MadeThings), func(s membership.Step) bool { return s.Thing == "" })
	}
	for i := range b.Unmakes {
		b.Unmakes[i].Result = ""
	}
	b.Reverses, b.After, b.Fields, b.Match, b.Words = r.Of.ID, r.Of.Posts, slices.Clone(r.Of.Fields), r.Of.Match, r.Of.Words
	b.Witnesses = slices.Clone(r.Of.Witnesses)
	if mark := r.about.Suspension.Field; r.about.MaySuspend() && !slices.Contains(b.Fields, mark) {
		b.Fields = append(b.Fields, mark)
	}
	what := "suspended"
	if r.Remove {
		what = "removed"
	}
	undone := fmt.Sprintf("batch %d", r.Of.ID)
	if r.Says != "" {
		undone = fmt.Sprintf("of batch %d only %s", r.Of.ID, r.Says)
	}
	b.Policies = fmt.Sprintf("Undoes %s: accounts it created are %s, fields get back what they held unless they were changed since, and memberships it gave or took are as before.", undone, what)
	if err := r.settled(ctx); err != nil {
		return nil, err
	}
	if err := r.Ledger.Begin(ctx, r.Worker, b); err != nil {
		return nil, err
	}
	if b.Set != "" && b.Beside == 0 { // it is the first of them
		b.Beside = b.ID
	}
	if err := presence.At(ctx, []store.Lease{r.Ledger.Lease(b.ID, r.Worker)}, r.Worker.Term, r.fill); err != nil {
		return nil, errors.Join(err, r.Ledger.Drafting(b.ID).Discard(context.WithoutCancel(ctx)))
	}
	return b, nil
}

// settled returns why it is not known yet what the batch did, or nil: undoing would be of a part of
// it, and nobody could say of which.
func (r *Reversal) settled(ctx context.Context) error {
	open, err := r.Ledger.InFlight(ctx, r.Of.ID, store.Part{High: math.MaxInt32})
	if err != nil {
		return err
	}
	rows := map[int]bool{}
	for i := range open {
		rows[open[i].Entry.Row] = true
	}
	for e, err := range r.Ledger.Entries(ctx, r.Of.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Steps: true}) {
		if err != nil {
			return err
		}
		if e.Proof == batch.Unseen || slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Within() && s.Result == membership.Sending }) {
			rows[e.Row] = true
		}
	}
	for row := range rows {
		if r.Takes != nil {
			for e, err := range r.Ledger.Entries(ctx, r.Of.ID, store.Filter{Rows: []int{row}}) {
				if err != nil {
					return err
				}
				if takes, err := r.Takes(&e); err != nil || !takes {
					delete(rows, row)
					if err != nil {
						return err
					}
				}
			}
		}
	}
	if len(rows) == 0 {
		return nil
	}
	first := slices.Min(slices.Collect(maps.Keys(rows)))
	return &batch.Guard{Message: fmt.Sprintf("of %d rows of batch %d, the first of them %s, it is open what became of what was sent, so that nobody can say what is to be undone", len(rows), r.Of.ID, batch.RowName(first)), Remedy: fmt.Sprintf("“evenledger post %d --settle” finds that out and sends nothing new; then undo it.", r.Of.ID)}
}

func (r *Reversal) fill(ctx context.Context) error {
	for after := 0; ; {
		var done []batch.Entry
		read := 0
		for e, err := range r.Ledger.Entries(ctx, r.Of.ID, store.Filter{After: after, Limit: 10 * chunk, Cells: true}) {
			if err != nil {
				return err
			}
			read, after = read+1, e.Row
			if e.Did == "" || e.Did == account.Unchanged && e.Intent == account.Remove {
				continue // nothing was done
			}
			if r.Takes != nil {
				takes, err := r.Takes(&e)
				if err != nil {
					return err
				}
				if !takes {
					continue
				}
			}
			r.noteStays(&e)
			done, r.taken = append(done, e), r.taken+1
		}
		if read == 0 {
			break
		}
		if err := r.undoAll(ctx, done); err != nil {
			return err
		}
	}
	if r.taken == 0 && r.Takes != nil {
		return ErrNoRow
	}
	r.sayStays()
	if err := foresee(ctx, r.Ledger, r.System, r.Batch.ID, func(*batch.Entry) {}); err != nil {
		return err
	}
	_, waiting, err := r.Ledger.Counts(ctx, r.Batch.ID)
	if err != nil {
		return err
	}
	if err := r.keeper.keep(ctx, &r.Batch, waiting); err != nil {
		return err
	}
	return drafted(ctx, r.Ledger, &r.Batch, waiting, r.Of.SignedFrom, r.Sign)
}

// noteStays counts what an entry did that nothing takes back.
func (r *Reversal) noteStays(e *batch.Entry) {
	for _, s := range e.Steps {
		switch {
		case s.Result != membership.Done && s.Result != membership.Unclear:
		case s.Do == membership.Notify:
			r.stays["mails that were sent"]++
		case s.Do == membership.Follow:
			r.stays["follow-ups that were done elsewhere"]++
		case s.Do == membership.Renew:
			r.stays["passwords that were set"]++
		}
	}
}

// sayStays says what undoing leaves.
func (r *Reversal) sayStays() {
	for _, result := range slices.Concat(r.Of.Begun, r.Of.Ended) {
		if result == membership.Done || result == membership.Unclear {
			r.stays["follow-ups that were done elsewhere"]++
		}
	}
	var all []string
	for _, what := range slices.Sorted(maps.Keys(r.stays)) {
		all = append(all, fmt.Sprintf("%d %s", r.stays[what], what))
	}
	if len(all) > 0 {
		r.Batch.Policies += " What stays as it is: " + strings.Join(all, ", ") + "."
	}
}

// undoAll makes the entries that undo others.
func (r *Reversal) undoAll(ctx context.Context, done []batch.Entry) error {
	if len(done) == 0 {
		return nil
	}
	now, rows, err := r.lookAt(ctx, done)
	if err != nil {
		return err
	}
	has, err := r.members(ctx, done)
	if err != nil {
		return err
	}
	referred, _, err := r.Ledger.Accounts(ctx, r.Of.ID, rows)
	if err != nil {
		return err
	}
	namesakes, err := r.namesakes(ctx, done)
	if err != nil {
		return err
	}
	entries := make([]batch.Entry, 0, len(done))
	strangers := 0
	for _, e := range done {
		u := batch.Entry{Row: e.Row, Key: e.Key, Account: e.Account, Cells: e.Cells}
		a := now[e.Account]
		stranger := batch.Stranger(r.about.Schema, e.Left(), &a, r.Of.Match)
		if stranger {
			u.Find(account.Error, account.DifferentPerson, "", "", fmt.Sprintf("the account %s was %s, and is %s now", e.Account, e.Key, a.Label()))
			if strangers++; 2*strangers > len(done) {
				return r.Of.OtherSystem(u.Findings[0].Message)
			}
		}
		if len(r.Batch.Witnesses) < fewWitnesses && a.ID != "" && !(r.Remove && e.Did == account.Created) {
			r.Batch.Witnesses = append(r.Batch.Witnesses, account.Account{ID: a.ID, Fields: map[string]account.Value{r.about.Naming: a.Field(r.about.Naming)}})
		}
		if stranger {
			u.Refuse()
		} else if e.Did == account.Removed && a.ID == "" {
			r.makeAgain(&u, &e, namesakes)
		} else {
			r.undo(&u, &e, &a, has, referred)
		}
		r.keeper.note(&u)
		entries = append(entries, u)
		if batch.Unlisted(e.Row) > 0 {
			r.Batch.Unlisted++
		} else {
			r.Batch.Rows++
		}
	}
	return r.Ledger.Drafting(r.Batch.ID).Add(ctx, entries)
}

// lookAt reads the accounts of entries as they are now, and returns the rows that they
// refer to.
func (r *Reversal) lookAt(ctx context.Context, done []batch.Entry) (now map[string]account.Account, rows []int, err error) {
	now, rows = map[string]account.Account{}, []int{}
	ask := append([]string{r.about.Naming}, r.Batch.Fields...)
	var ids []string
	for _, e := range done {
		ids, now[e.Account] = append(ids, e.Account), account.Account{}
		for _, s := range e.Steps {
			if s.Do != membership.Refer {
				continue
			}
			if rows = append(rows, s.Row); !slices.Contains(ask, s.Kind) {
				ask = append(ask, s.Kind)
			}
		}
	}
	looked := 0
	_, err = system.Fetch(ctx, r.System, map[string][]string{system.ByID: ids}, ask, r.Together, func(a account.Account) {
		if _, wanted := now[a.ID]; wanted {
			now[a.ID] = a
		}
		if looked++; r.Progress != nil {
			r.Progress("looked at accounts", looked)
		}
	})
	return now, rows, err
}

// members reads who is a member now of the things whose members the batch changed.
func (r *Reversal) members(ctx context.Context, done []batch.Entry) (*membership.Register, error) {
	things := map[string][]string{}
	for _, e := range done {
		for _, s := range e.Steps {
			if s.IsTie() && (s.Result == membership.Done || s.Result == membership.Goes || s.Result == membership.Unclear) && !slices.Contains(things[s.Kind], s.Thing) {
				things[s.Kind] = append(things[s.Kind], s.Thing)
			}
		}
	}
	has := &membership.Register{}
	if len(things) == 0 {
		return has, nil
	}
	if r.catalogue == nil {
		r.catalogue = &membership.Catalogue{Elevated: r.Elevated}
	}
	for kind, ids := range things {
		if _, read := r.catalogue.Kind(kind); !read {
			r.catalogue.AddKind(account.ThingKind{Name: kind})
			for t, err := range r.System.Things(ctx, kind, false) {
				if err != nil {
					return nil, err
				}
				r.catalogue.Add(kind, t)
			}
		}
		if err := has.Read(ctx, r.System, kind, ids, membership.Anyone, membership.Silent); err != nil {
			return nil, err
		}
	}
	return has, nil
}

// undo decides how to undo what was done with one account, given how it is now.
func (r *Reversal) undo(u, e *batch.Entry, now *account.Account, has *membership.Register, referred map[int]string) {
	u.Intent, u.Outcome, u.Version, u.Known = account.Keep, account.Unchanged, now.Version, map[string]account.Value{}
	for _, name := range r.Batch.Fields {
		if v := now.Field(name); v.Present() {
			u.Known[name] = v
		}
	}
	switch {
	case e.Did == account.Removed:
		u.Find(account.Note, account.ExistsAlready, "", "", fmt.Sprintf("the account %s is there: it was not removed, or somebody brought it back", now.Label()))
		return
	case now.ID == "":
		u.Find(account.Note, account.NoAccount, "", "", fmt.Sprintf("the account %s is no longer in the system", e.Account))
		return
	}
	if e.Did == account.Created {
		r.uncreate(u, e, now)
	} else {
		for _, c := range e.Done() {
			r.putBack(u, c, now)
		}
		u.Intent = batch.Effect(r.about.Schema, u.Changes)
	}
	if u.Intent != account.Remove {
		for _, s := range e.Steps {
			if s.Result == membership.Done || s.Result == membership.Unclear && s.Do == membership.Join {
				r.undoStep(u, e, s, now, has, referred)
			}
		}
	}
	if batch.Protects(r.about.Schema, r.Batch.Protect, now) && (u.Intent == account.Remove || len(u.Changes)+len(u.Steps) > 0) {
		u.Find(account.Error, account.ProtectedAccount, "", "", fmt.Sprintf("the account %s is protected", now.Label()))
	}
	switch {
	case account.HasError(u.Findings):
		u.Refuse()
	case u.Intent != account.Remove:
		u.Wait()
	}
}

// namesakes finds the accounts that are called by now as ones that the batch removed: by the key of
// what names them.
func (r *Reversal) namesakes(ctx context.Context, done []batch.Entry) (map[string]account.Account, error) {
	naming, found := r.about.Field(r.about.Naming), map[string]account.Account{}
	var names []string
	for i := range done {
		if name := done[i].Known[naming.Name]; done[i].Did == account.Removed && name.Filled() {
			names = append(names, name.Text())
		}
	}
	if len(names) == 0 {
		return found, nil
	}
	_, err := system.Fetch(ctx, r.System, map[string][]string{naming.Name: names}, []string{naming.Name}, r.Together, func(a account.Account) {
		found[naming.Key(a.Field(naming.Name).Text())] = a
	})
	return found, err
}

// makeAgain decides to make an account again that the batch removed, out of what was kept of it.
func (r *Reversal) makeAgain(u, e *batch.Entry, namesakes map[string]account.Account) {
	naming := r.about.Field(r.about.Naming)
	name := e.Known[naming.Name]
	if other, taken := namesakes[naming.Key(name.Text())]; !name.Filled() || taken {
		why := "what was in it was not kept"
		if name.Filled() {
			why = fmt.Sprintf("%s (%s) is called so now", other.Label(), other.ID)
		}
		u.Find(account.Error, account.CannotBeUndone, "", "", "the account was removed, and cannot be made again: "+why)
		u.Refuse()
		return
	}
	u.Account, u.Intent, u.Outcome = "", account.Create, account.Waiting
	for _, a := range r.about.Attributes {
		if v := e.Known[a.Field]; v.Filled() && !a.ReadOnly {
			u.Changes = append(u.Changes, account.Change{Field: a.Field, After: v})
			if !slices.Contains(r.Batch.Fields, a.Field) {
				r.Batch.Fields = append(r.Batch.Fields, a.Field)
			}
		}
	}
	u.Find(account.Warning, account.MadeAnew, "", "", fmt.Sprintf("the account %s is made anew, with the fields and memberships that it had, under a new identifier and without a password: what else was in it is gone", name.Text()))
	for _, s := range e.Steps {
		if s.Result != membership.Goes {
			continue
		}
		if s.Do == membership.Stay {
			u.Steps = append(u.Steps, membership.Step{Do: membership.Stay, Kind: s.Kind, Thing: s.Thing, Name: s.Name, Holder: s.Holder, Again: true})
			continue
		}
		t := r.catalogue.Thing(s.Kind, s.Thing)
		if !r.Allow && r.catalogue.IsElevated(s.Kind, &t) {
			u.Find(account.Error, account.ElevatedRight, s.Kind, "", fmt.Sprintf("“%s” gives rights over others, and would be given back", s.Name))
			u.Refuse()
			return
		}
		u.Steps = append(u.Steps, membership.Step{Do: membership.Join, Kind: s.Kind, Thing: s.Thing, Name: s.Name, Role: s.Was[0], Section: s.Was[1]})
	}
}

// uncreate decides what becomes of an account that the batch created.
func (r *Reversal) uncreate(u, e *batch.Entry, now *account.Account) {
	u.Intent = account.Suspend
	r.tellChanged(u, e, now)
	switch {
	case r.Remove && !r.about.Can.Removes:
		u.Find(account.Error, account.CannotBeUndone, "", "", "the system removes no accounts; without --remove it would be suspended")
	case r.Remove:
		u.Find(account.Warning, account.RemovesData, "", "", fmt.Sprintf("the account %s goes with all that is in it, and cannot be brought back", now.Label()))
		u.Intent, u.Outcome = account.Remove, account.Waiting
	case !r.about.MaySuspend():
		u.Find(account.Error, account.CannotBeUndone, r.about.Suspension.Field, "", "the system has no way to suspend an account; --remove would remove it, with all that is in it")
	case !r.about.IsSuspended(now):
		u.Changes = append(u.Changes, r.about.Mark(now, true))
	}
}

// tellChanged tells what was changed in a created account since.
func (r *Reversal) tellChanged(u, e *batch.Entry, now *account.Account) {
	for _, c := range e.Changes {
		if is := now.Field(c.Field).Text(); !r.about.Field(c.Field).Same(is, c.After.Text()) {
			u.Find(account.Warning, account.ChangedSince, c.Field, "", fmt.Sprintf("since it was created, its %s became “%s”", c.Field, is))
		}
	}
}

// putBack puts a field back to what it held before.
func (r *Reversal) putBack(u *batch.Entry, c account.Change, now *account.Account) {
	f, is := r.about.Field(c.Field), now.Field(c.Field)
	switch {
	case f.Same(is.Text(), c.Before.Text()):
		return
	case !f.Same(is.Text(), c.After.Text()):
		u.Find(account.Warning, account.ChangedSince, c.Field, "", fmt.Sprintf("%s is “%s” now, and the batch had made it “%s”: it is left as it is", c.Field, is.Text(), c.After.Text()))
		return
	}
	if a, ok := r.about.Attribute(c.Field); ok && a.Immutable {
		u.Find(account.Warning, account.CannotBeUndone, c.Field, "", fmt.Sprintf("%s can be set only once and stays “%s”", c.Field, is.Text()))
		return
	}
	back := account.Change{Field: c.Field, Before: is, After: account.Of(c.Before.Text()), Whole: c.Whole}
	if c.Names != nil {
		back.Names = &[2]string{c.Names[1], c.Names[0]}
	}
	if attribute, _ := r.about.Attribute(c.Field); attribute.Loses != "" {
		u.Find(account.Warning, account.CannotBeUndone, c.Field, "", attribute.Loses)
	}
	u.Changes = append(u.Changes, back)
}

// undoStep undoes a step that followed.
func (r *Reversal) undoStep(u, e *batch.Entry, s membership.Step, now *account.Account, has *membership.Register, referred map[int]string) {
	if s.Do == membership.Refer {
		r.putBack(u, account.Change{Field: s.Kind, Before: account.Of(e.Known[s.Kind].Text()), After: account.Of(referred[s.Row]), Names: &[2]string{e.Known[s.Kind].Text(), s.Name}}, now)
		return
	}
	if s.Do == membership.Reown {
		if slices.ContainsFunc(u.Changes, func(c account.Change) bool { return slices.Contains(r.about.Owners[:], c.Field) }) {
			r.Batch.Reown = r.Of.Reown
			u.Steps = append(u.Steps, membership.Step{Do: membership.Reown, Kind: s.Kind, Numbers: s.Numbers.Back(), Name: s.Name})
		}
		return
	}
	if s.Do == membership.Renew {
		u.Find(account.Warning, account.CannotBeUndone, "password", "", "the password that the batch set stays: the one before it is known to nobody")
		return
	}
	if !s.IsTie() { // a mail that was sent was sent
		return
	}
	m, member := has.In(e.Account, s.Kind, s.Thing)
	back := membership.Step{Do: membership.Join, Kind: s.Kind, Thing: s.Thing, Name: s.Name}
	if s.Was != nil {
		back.Role, back.Section = s.Was[0], s.Was[1]
	}
	switch {
	case s.Do == membership.Leave && member:
		return // it is back already
	case s.Do == membership.Leave:
	case !member && s.Result == membership.Unclear:
		back.Do = membership.Leave // it may be one all the same: it never was shown
	case !member:
		return // it is gone already
	case m.Role != s.Role || m.Section != s.Section:
		u.Find(account.Warning, account.ChangedSince, s.Kind, "", fmt.Sprintf("the membership of “%s” was changed since and is left as it is", s.Name))
		return
	case s.Was != nil:
		back.Was = &[2]string{m.Role, m.Section}
	default:
		back.Do, back.Was = membership.Leave, &[2]string{m.Role, m.Section}
	}
	t := r.catalogue.Thing(s.Kind, s.Thing)
	if back.Do == membership.Join && !member && !r.Allow && r.catalogue.IsElevated(s.Kind, &t) {
		u.Find(account.Error, account.ElevatedRight, s.Kind, "", fmt.Sprintf("“%s” gives rights over others, and would be given back", s.Name))
		return
	}
	u.Steps = append(u.Steps, back)
}
