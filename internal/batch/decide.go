package batch

import (
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// A Decider decides the rows of one batch in their order.
type Decider struct {
	Brief  *brief.Brief
	Schema *account.Schema
	Can    system.Abilities
	Index  *Index
	Unique []int // fields of the brief in which no two accounts agree

	// Missing returns what the system wants of a new account and the row lacks.
	Missing func(*mapping.Wanted) []account.Finding
	// MapAgain maps the row of what is wanted anew, with the numbered field's value given.
	MapAgain func(w *mapping.Wanted, value string)
	// Free returns the first value that is free of base, others, and the last of
	// them with a number behind it.
	Free func(f brief.Field, base string, others []string, taken func(string) bool) (string, bool)
	// Release takes back a value that Free gave; nil: nothing has to be.
	Release func(f brief.Field, given, base string, others []string)
	// Column names the column of a field of the brief.
	Column func(field int) string
	// Ties decides the memberships; nil: the brief speaks of none.
	Ties *membership.Decider
	// Row returns the row of the sheet, other than the entry's own, whose field has
	// the value; 0: none.
	Row func(own int, field account.Field, value string) int
	// WhyRefuse says what can be done about rows that find no account and are refused
	// for it; empty: as usual.
	WhyRefuse string
	// Fields are those that are asked for of known accounts.
	Fields []string
	// Extra are fields that a new account gets besides those of the brief.
	Extra []account.Change
	// Renewal is the field that has a person choose yet another password where an account
	// gets one; empty: none.
	Renewal string
	// Protect has the patterns of names of accounts that are not changed.
	Protect []string
	// Paired is whom a person said that a row means: an account by its identifier, by what
	// names it, or nobody, who is new. It is asked where the brief compares what has no key.
	Paired func(w *mapping.Wanted) (id, name string, isNew, said bool)
	// Zeros returns what a key of digits may really be, but for zeros before it; nil: nobody looks.
	Zeros func(field, text string) []string
	// Several rows may come to the same account, as they bring only memberships.
	Several bool

	booked  []membership.Step // of the row at hand
	matched map[string]int    // account → row it was matched by
	given   map[string]bool   // values of the numbered field given to new accounts

	attributes []account.Attribute // by field of the brief
	standing   map[[2]string]int   // unit and name → row whose account is to be called so there
}

// Decide turns what a row wants into its entry. If the row comes to an account
// that an earlier row came to, that row is returned as well: it is to be refused
// too, as nobody can say which of them is right.
func (d *Decider) Decide(e *Entry, w *mapping.Wanted) (alsoRefuse int) {
	e.Key, e.Findings, d.booked = Key(d.Brief, w), w.Findings, nil
	asks, understood := d.asks(w)
	if !understood {
		i := d.Brief.Intent()
		e.Find(account.Error, account.NotAllowedValue, "intent", d.Column(i), fmt.Sprintf("“%s” is none of what may happen to an account: %s", w.Values[i].Text(), strings.Join(brief.IntentWords(), ", ")))
		e.Refuse()
		return 0
	}
	switch {
	case w.Aside:
		e.Outcome = account.Aside
		return 0
	case asks == account.Intent(account.Aside):
		i := d.Brief.Intent()
		e.setAside(account.NotWanted, d.Column(i), "the row itself says so")
		return 0
	case w.Refused():
		e.Refuse()
		return 0
	}
	found := d.match(e, w)
	if e.Outcome == account.Refused {
		return 0
	}
	if found == nil {
		d.decideNew(e, w, asks)
		return 0
	}
	if first, taken := d.matched[found.ID]; taken && !d.Several {
		e.Find(account.Error, account.SameAccount, "", "", fmt.Sprintf("row %d comes to the same account, %s", first, found.Label()))
		e.Refuse()
		return first
	}
	if d.matched == nil {
		d.matched = map[string]int{}
	}
	d.matched[found.ID] = w.Row
	d.decideKnown(e, w, found, asks)
	e.keepWhole(found)
	if Protects(d.Schema, d.Protect, found) && e.Outcome.Waits() {
		d.Ties.Return(d.booked)
		e.Find(account.Error, account.ProtectedAccount, "", "", fmt.Sprintf("the account %s is protected, and the row would change it", found.Label()))
		e.Refuse()
	}
	return 0
}

// Settle ends deciding an entry of a known account, once all its changes are known: what goes
// along is changed as well, and what cannot be changed in just this account refuses it.
func (d *Decider) Settle(e *Entry) {
	found := d.Index.Accounts()[e.Account]
	if found == nil || e.Account == "" {
		return
	}
	for _, what := range found.Amiss {
		e.Find(account.Warning, account.DoesNotFit, "", "", what)
	}
	if !e.Outcome.Waits() || e.Intent == account.Create {
		return
	}
	changes := func(field string) bool {
		return slices.ContainsFunc(e.Changes, func(c account.Change) bool { return c.Field == field })
	}
	for _, c := range slices.Clone(e.Changes) {
		other := d.Schema.Along[c.Field]
		if before := found.Field(other); other != "" && !changes(other) && before.Text() == c.Before.Text() {
			e.Changes = append(e.Changes, account.Change{Field: other, Before: before, After: c.After})
		}
	}
	for _, c := range e.Changes {
		attribute, _ := d.Schema.Attribute(c.Field)
		if attribute.Loses != "" {
			e.Find(account.Note, account.CannotBeUndone, c.Field, "", attribute.Loses)
		}
	}
	for _, c := range e.Changes {
		if why := found.Refuses[c.Field]; why != "" {
			d.Ties.Return(e.Steps)
			e.Find(account.Error, account.KeptElsewhere, c.Field, "", why)
			e.Refuse()
			return
		}
	}
	for _, c := range e.Changes {
		code, why := account.UnknownField, found.Lacks[c.Field]
		for _, other := range found.Needs[c.Field] {
			if why == "" && c.After.Filled() && !changes(other) {
				code, why = account.BlankRequired, fmt.Sprintf("whoever has a %s needs a %s as well, and the account has none", c.Field, other)
			}
		}
		if why != "" && c.After.Filled() {
			d.Ties.Return(e.Steps)
			e.Find(account.Error, code, c.Field, "", why)
			e.Refuse()
			return
		}
	}
	if why := found.Refuses[account.ID]; why != "" && e.Intent == account.Remove {
		d.Ties.Return(e.Steps)
		e.Find(account.Error, account.KeptElsewhere, "", "", why)
		e.Refuse()
	}
}

// setAside leaves the row out, and says why.
func (e *Entry) setAside(code account.Code, column, why string) {
	e.Outcome, e.Findings = account.Aside, nil
	e.Find(account.Note, code, "", column, why)
}

// asks is what the row itself says is to happen; None: nothing. It is not
// understood if it is none of the words there are: nothing is guessed.
func (d *Decider) asks(w *mapping.Wanted) (asks account.Intent, understood bool) {
	i := d.Brief.Intent()
	if i < 0 || w.Aside || !w.Values[i].Filled() {
		return account.None, true
	}
	word := strings.ToLower(w.Values[i].Text())
	return account.Intent(word), slices.Contains(brief.IntentWords(), word)
}

// Protects reports whether one of the patterns is a name of the account.
func Protects(schema *account.Schema, patterns []string, a *account.Account) bool {
	return slices.ContainsFunc([]string{a.ID, a.Field(schema.Naming).Text(), a.Field("email").Text()}, func(name string) bool {
		return name != "" && account.Fits(name, patterns)
	})
}

// Find returns the account that a row means; nil: none, or nobody can tell which. Nothing
// else is decided.
func (d *Decider) Find(w *mapping.Wanted) *account.Account {
	e := &Entry{}
	if w.Aside || w.Refused() {
		return nil
	}
	if found := d.match(e, w); e.Outcome != account.Refused {
		return found
	}
	return nil
}

// match finds the row's account, or refuses the entry. The first key that finds
// an account decides; every other key of the row must agree with it.
func (d *Decider) match(e *Entry, w *mapping.Wanted) *account.Account {
	var found *account.Account
	var by string
	keys := 0
	for at, name := range d.Brief.Match {
		i := d.Brief.Field(name)
		value := w.Values[i]
		if !value.Filled() || w.IsFallback(i) { // a fallback is nobody's key
			continue
		}
		keys++
		numbered := d.Brief.Fields[i].Unique == brief.UniqueNumber
		if numbered && w.Base != "" {
			value = account.Of(w.Base) // a number got in the sheet is nobody's yet
		}
		hits := d.Index.Find(name, value.Text())
		switch {
		case len(hits) == 0:
		case len(hits) > 1:
			e.Find(account.Error, account.TwoAccounts, name, d.Column(i), fmt.Sprintf("%s “%s” finds two accounts: %s (%s) and %s (%s)", d.Brief.Fields[i].Label, value.Text(), hits[0].Label(), hits[0].ID, hits[1].Label(), hits[1].ID))
			e.Refuse()
			return nil
		case found == nil:
			other, differs := d.belongsElsewhere(hits[0], w, at)
			if differs && numbered {
				continue // another person's; a number will be put behind
			}
			if differs {
				f := d.Brief.Fields[other]
				e.Find(account.Error, account.DifferentPerson, f.Name, d.Column(other), fmt.Sprintf("%s “%s” finds the account %s, but its %s is “%s” and not “%s”", d.Brief.Fields[i].Label, value.Text(), hits[0].Label(), f.Label, hits[0].Field(f.Name).Text(), w.Values[other].Text()))
				e.Refuse()
				return nil
			}
			found, by = hits[0], d.Brief.Fields[i].Label
		case hits[0] != found && !numbered:
			e.Find(account.Error, account.TwoThings, name, d.Column(i), fmt.Sprintf("%s finds the account %s (%s), but %s “%s” belongs to %s (%s)", by, found.Label(), found.ID, d.Brief.Fields[i].Label, value.Text(), hits[0].Label(), hits[0].ID))
			e.Refuse()
			return nil
		}
	}
	if len(d.Brief.Like) > 0 {
		return d.paired(e, w, found)
	}
	if keys == 0 {
		e.Find(account.Error, account.NoKey, "", "", "the row has no value in any field that finds an account")
		e.Refuse()
	}
	return found
}

// paired finds the row's account by what a person said, where no key found it. What a key
// found and a person said otherwise nobody can settle here.
func (d *Decider) paired(e *Entry, w *mapping.Wanted, found *account.Account) *account.Account {
	var id, name string
	var isNew, said bool
	if d.Paired != nil {
		id, name, isNew, said = d.Paired(w)
	}
	by, value := account.ID, id
	if name != "" {
		by, value = d.Schema.Naming, name
	}
	hits := d.Index.Find(by, value)
	switch {
	case !said && found == nil:
		e.Find(account.Error, account.NotPaired, "", "", "no key finds an account, and nobody has said yet whom the row means")
	case !said, found != nil && isNew:
		return found // a key that finds one counts for more than that nobody was known
	case isNew:
		return nil
	case len(hits) == 0:
		e.Find(account.Error, account.NoAccount, "", "", fmt.Sprintf("the account “%s”, which was said to be meant, is not there", value))
	case len(hits) > 1:
		e.Find(account.Error, account.TwoAccounts, "", "", fmt.Sprintf("“%s”, which was said to be meant, are two accounts", value))
	case found != nil && found != hits[0]:
		e.Find(account.Error, account.TwoThings, "", "", fmt.Sprintf("a key finds the account %s (%s), and %s (%s) was said to be meant", found.Label(), found.ID, hits[0].Label(), hits[0].ID))
	default:
		return hits[0]
	}
	e.Refuse()
	return nil
}

// belongsElsewhere reports the first earlier key in which the account has
// another value than the row: it is another person's account.
func (d *Decider) belongsElsewhere(a *account.Account, w *mapping.Wanted, before int) (field int, differs bool) {
	for _, name := range d.Brief.Match[:before] {
		i := d.Brief.Field(name)
		has, wants := a.Field(name), w.Values[i]
		if d.Brief.Fields[i].Unique != brief.UniqueNumber && has.Filled() && wants.Filled() && !d.Brief.Fields[i].One(has.Text(), wants.Text()) {
			return i, true
		}
	}
	return 0, false
}

func (d *Decider) decideNew(e *Entry, w *mapping.Wanted, asks account.Intent) {
	switch {
	case asks == account.Remove:
		e.Find(account.Warning, account.NoAccount, "", "", fmt.Sprintf("no account was found for “%s”, so there is none to remove", e.Key))
		e.Intent, e.Outcome = account.Keep, account.Unchanged
	case asks != account.None && asks != account.Create:
		e.Find(account.Error, account.NoAccount, "", "", fmt.Sprintf("no account was found for “%s” to %s", e.Key, asks))
		e.Refuse()
	case asks == account.Create:
		d.create(e, w)
	case d.Brief.New == brief.Skip:
		e.setAside(account.NotThere, "", fmt.Sprintf("no account was found for “%s”", e.Key))
	case d.Brief.New == brief.Refuse:
		e.Find(account.Error, account.NewRefused, "", "", fmt.Sprintf("no account was found for “%s”", e.Key))
		if d.WhyRefuse != "" {
			e.Findings[len(e.Findings)-1].Remedy = d.WhyRefuse
		}
		e.Refuse()
	default:
		d.create(e, w)
	}
}

// create decides what a new account gets.
func (d *Decider) create(e *Entry, w *mapping.Wanted) {
	number := ""
	if n := d.Brief.Numbered(); n >= 0 && w.Values[n].Filled() {
		number = d.number(w, n)
	}
	defer func() {
		if e.Outcome != account.Refused || number == "" {
			return
		}
		// Others need not skip what nobody gets.
		if f := d.Brief.Fields[d.Brief.Numbered()]; d.Release != nil {
			d.Release(f, number, w.Base, w.Others)
		}
		delete(d.given, number)
	}()
	e.Findings = append(w.Findings, d.Missing(w)...)
	d.lostZeros(e, w)
	if d.taken(e, w, ""); account.HasError(e.Findings) {
		e.Refuse()
		return
	}
	e.Changes = make([]account.Change, 0, len(d.Brief.Fields)+len(d.Extra))
	for i := range d.Brief.Fields {
		f, value := &d.Brief.Fields[i], w.Values[i]
		if f.Send && f.Name != account.ID && value.Filled() && f.Mode != brief.Drop {
			d.change(e, i, account.Change{Field: f.Name, After: value})
		}
	}
	if len(e.Changes) == 0 {
		e.Find(account.Error, account.NothingToSend, "", "", "the row gives the new account no value")
	}
	d.called(e, nil)
	e.Changes = append(e.Changes, d.Extra...)
	if d.tie(e, w, nil); account.HasError(e.Findings) {
		d.Ties.Return(d.booked)
		e.Refuse()
		return
	}
	e.Intent, e.Outcome = account.Create, account.Waiting
	e.Key = Key(d.Brief, w)
}

// lostZeros tells a row that finds nobody by its key, where somebody has it but for zeros before it.
func (d *Decider) lostZeros(e *Entry, w *mapping.Wanted) {
	if d.Zeros == nil {
		return
	}
	for _, name := range d.Brief.Match {
		i := d.Brief.Field(name)
		for _, other := range d.Zeros(name, w.Values[i].Text()) {
			hits := d.Index.Find(name, other)
			if len(hits) == 0 {
				continue
			}
			e.Find(account.Error, account.LostZeros, name, d.Column(i), fmt.Sprintf("no account has the %s “%s”, and “%s” is %s (%s)", d.Brief.Fields[i].Label, w.Values[i].Text(), other, hits[0].Label(), hits[0].ID))
			e.Findings[len(e.Findings)-1].Remedy = fmt.Sprintf("Did you mean “%s”? If zeros are lost in every row, say “digits: %d” at the field in the brief.", other, len(other))
			return
		}
	}
}

// number gives a new account the first value of the numbered field that neither
// an account nor an earlier row has. The rows were numbered among themselves when
// they were checked; which of them are new is known only now. It returns what is
// noted as given.
func (d *Decider) number(w *mapping.Wanted, n int) (given string) {
	f := d.Brief.Fields[n]
	free, ok := d.Free(f, w.Base, w.Others, func(text string) bool { return d.given[f.Key(text)] || len(d.Index.Find(f.Name, text)) > 0 })
	if !ok {
		found := account.Find(account.Error, account.NoFreeValue, fmt.Sprintf("“%s” and what could stand for it are all taken", w.Base))
		found.Row, found.Field, found.Column = w.Row, f.Name, d.Column(n)
		w.Findings = append(w.Findings, found)
		return ""
	}
	if d.given == nil {
		d.given = map[string]bool{}
	}
	d.given[f.Key(free)] = true
	if free != w.Values[n].Text() {
		d.MapAgain(w, free)
	}
	return f.Key(free)
}

func (d *Decider) decideKnown(e *Entry, w *mapping.Wanted, found *account.Account, asks account.Intent) {
	e.Account, e.Version = found.ID, found.Version
	e.Known = map[string]account.Value{}
	d.know(e, found)
	switch {
	case asks == account.Suspend:
		d.suspend(e, found)
	case asks == account.Remove:
		d.remove(e, found)
	case asks == account.Update, asks == account.Resume:
		d.update(e, w, found, asks)
	case asks == account.Create && !d.Brief.KnownSaid:
		e.Find(account.Error, account.KnownRefused, "intent", d.Column(d.Brief.Intent()), fmt.Sprintf("the row says that the account is new, and %s exists already", found.Label()))
		e.Refuse()
	case d.Brief.Known == brief.Skip:
		e.setAside(account.ExistsAlready, "", fmt.Sprintf("the account %s exists already", found.Label()))
	case d.Brief.Known == brief.Refuse:
		e.Find(account.Error, account.KnownRefused, "", "", fmt.Sprintf("the account %s exists already", found.Label()))
		e.Refuse()
	default:
		d.update(e, w, found, asks)
	}
}

// update decides what of a known account changes.
func (d *Decider) update(e *Entry, w *mapping.Wanted, found *account.Account, asks account.Intent) {
	named := d.keepName(w, found)
	e.Findings = w.Findings
	for i, f := range d.Brief.Fields {
		before, after := found.Field(f.Name), w.Values[i]
		if i == named || !d.gives(w, i, before) || keepsNumber(&d.Brief.Fields[i], before.Text(), after.Text()) {
			continue
		}
		if f.Kind == account.List {
			after = account.Of(merged(f.Mode, before.Text(), after.Text()))
		}
		d.change(e, i, account.Change{Field: f.Name, Before: before, After: after})
	}
	if asks == account.Resume && d.Schema.IsSuspended(found) {
		setTo(e, d.Schema.Mark(found, false))
	}
	e.Intent = Effect(d.Schema, e.Changes)
	switch e.Intent {
	case account.Suspend:
		d.set(e, found, d.Brief.Suspending.Set)
	case account.Resume:
		d.set(e, found, d.Brief.Resuming)
	}
	d.taken(e, w, found.ID)
	d.called(e, found)
	d.tie(e, w, found)
	if e.Intent == account.Suspend && d.Ties != nil {
		d.leave(e, found)
	}
	if e.Intent != account.Suspend && d.Brief.Password.Renews(w.Password) {
		d.renew(e, w, found)
	}
	if account.HasError(e.Findings) {
		d.Ties.Return(d.booked)
		e.Refuse()
		return
	}
	e.Wait()
}

// renew gives an account that is there another password.
func (d *Decider) renew(e *Entry, w *mapping.Wanted, found *account.Account) {
	column := d.Brief.Password.From
	switch {
	case !d.Can.Renews:
		e.Find(account.Error, account.CannotSetPassword, "password", column, fmt.Sprintf("the account %s is to get another password, and the system sets none of accounts that are there", found.Label()))
	case w.Weak != "":
		e.Find(account.Error, account.WeakPassword, "password", column, w.Weak)
	default:
		e.Steps = append(e.Steps, membership.Step{Do: membership.Renew, Kind: "password", Choose: d.Renewal})
	}
}

// keepName has what is made from the numbered field follow the value that the account has
// of it: a sign-in name once given stays. It returns the field's index, or -1 if there is
// none, or the account has no value of it.
func (d *Decider) keepName(w *mapping.Wanted, found *account.Account) int {
	n := d.Brief.Numbered()
	if n < 0 {
		return -1
	}
	own := found.Field(d.Brief.Fields[n].Name)
	if !own.Filled() {
		return -1
	}
	if w.Values[n].Filled() && w.Values[n] != own {
		d.MapAgain(w, own.Text())
	}
	return n
}

// gives reports whether the row gives a known account a value of field i.
func (d *Decider) gives(w *mapping.Wanted, i int, before account.Value) bool {
	f := &d.Brief.Fields[i]
	switch {
	case !f.Send, f.KeyOnly, !w.Values[i].Present(), d.Brief.Known == brief.Fill && before.Filled():
		return false
	}
	return !w.IsFallback(i) || f.FallbackFor.Serves(before)
}

// know keeps what is known of the account: the fields that matter, and who it is.
func (d *Decider) know(e *Entry, found *account.Account) {
	for _, name := range append([]string{d.Schema.Naming, "displayName"}, d.Fields...) {
		if before := found.Field(name); before.Present() {
			e.Known[name] = before
		}
	}
}

// Wait lets the entry wait to be posted, if anything is to be done.
func (e *Entry) Wait() {
	if len(e.Changes)+len(e.Steps) == 0 {
		e.Intent, e.Outcome = account.Keep, account.Unchanged
		return
	}
	e.Outcome = account.Waiting
}

// Effect is what changes of a known account come to.
func Effect(schema *account.Schema, changes []account.Change) account.Intent {
	mark := schema.Suspension
	for _, c := range changes {
		switch {
		case mark.Field == "" || c.Field != mark.Field:
		case c.After.Text() == mark.Off:
			return account.Suspend
		case c.Before.Text() == mark.Off:
			return account.Resume
		}
	}
	return account.Update
}

// suspend decides a row that asks for its account to be suspended. Nothing else of
// the row is looked at: everything is kept as it is.
func (d *Decider) suspend(e *Entry, found *account.Account) {
	e.Intent = account.Suspend
	if !d.Schema.IsSuspended(found) {
		e.Changes = append(e.Changes, d.Schema.Mark(found, true))
	}
	d.set(e, found, d.Brief.Suspending.Set)
	d.leave(e, found)
	e.Wait()
}

// Unlist decides what happens to an account that the sheet is to list and doesn't.
func (d *Decider) Unlist(e *Entry, found *account.Account) {
	e.Key, e.Account, e.Version, e.Known = found.Label(), found.ID, found.Version, map[string]account.Value{}
	d.know(e, found)
	if Protects(d.Schema, d.Protect, found) {
		e.Find(account.Note, account.ProtectedAccount, "", "", fmt.Sprintf("the account %s is protected, and stays as it is though no row lists it", found.Label()))
		e.Outcome = account.Aside
		return
	}
	d.booked = nil
	d.suspend(e, found)
	e.keepWhole(found)
}

// IsListed reports whether a row came to the account.
func (d *Decider) IsListed(id string) bool {
	_, is := d.matched[id]
	return is
}

// RemoveDue decides an account that was suspended long enough to be removed now.
func (d *Decider) RemoveDue(e *Entry, found *account.Account, why string) {
	e.Key, e.Account, e.Version, e.Known = found.Label(), found.ID, found.Version, map[string]account.Value{}
	d.know(e, found)
	if Protects(d.Schema, d.Protect, found) {
		d.LeaveDue(e, found, "the account is protected, and stays")
		return
	}
	if d.remove(e, found); e.Intent == account.Remove {
		e.Find(account.Note, account.RemovalDue, "", "", why)
	}
}

// LeaveDue decides an account that would have been due to be removed, and is left.
func (d *Decider) LeaveDue(e *Entry, found *account.Account, why string) {
	e.Key, e.Account, e.Version, e.Known = found.Label(), found.ID, found.Version, map[string]account.Value{}
	d.know(e, found)
	e.Find(account.Note, account.RemovalDue, "", "", why)
	e.Outcome = account.Aside
}

// keepWhole keeps what else the system has of several values that change, so that it can
// be put back.
func (e *Entry) keepWhole(found *account.Account) {
	for i, c := range e.Changes {
		e.Changes[i].Whole = found.Whole[c.Field]
	}
}

func (d *Decider) leave(e *Entry, found *account.Account) {
	if d.Ties == nil {
		return
	}
	for _, step := range d.Ties.Leaving(found.ID, d.booked) {
		d.step(e, step, found)
	}
}

func (d *Decider) remove(e *Entry, found *account.Account) {
	switch {
	case !d.Can.Removes:
		e.Find(account.Error, account.CannotBeRemoved, "", "", fmt.Sprintf("the row asks to remove the account %s, and the system removes none", found.Label()))
		e.Refuse()
		return
	case !d.Brief.MayRemove:
		e.Find(account.Error, account.RemovingNotAllowed, "", "", fmt.Sprintf("the row asks to remove the account %s, with all that is in it", found.Label()))
		e.Refuse()
		return
	}
	e.Find(account.Warning, account.RemovesData, "", "", fmt.Sprintf("the account %s goes with all that is in it, and cannot be brought back", found.Label()))
	e.Intent, e.Outcome = account.Remove, account.Waiting
}

// set adds changes that go with suspending or resuming.
func (d *Decider) set(e *Entry, found *account.Account, set []account.Change) {
	for _, c := range set {
		c.Before = found.Field(c.Field)
		if a, ok := d.Schema.Attribute(c.Field); ok {
			// What cannot be read was told when the brief was held against the schema.
			if text, err := codes.NewReader(codes.Unsettled).Read(a.Kind, c.After.Text()); err == nil {
				c.After = account.Of(text)
			}
		}
		if c.Before.Text() != c.After.Text() {
			setTo(e, c)
		}
	}
}

// setTo sets a change, in the place of one of the same field.
func setTo(e *Entry, change account.Change) {
	e.Changes = slices.DeleteFunc(e.Changes, func(c account.Change) bool { return c.Field == change.Field })
	e.Changes = append(e.Changes, change)
}

// merged is what a list comes to.
func merged(mode brief.Mode, before, after string) string {
	has, row := account.Items(before), account.Items(after)
	in := func(list []string) func(string) bool {
		return func(item string) bool { return slices.Contains(list, item) }
	}
	switch mode {
	case brief.Add:
		return account.ListOf(append(has, slices.DeleteFunc(row, in(has))...))
	case brief.Drop:
		return account.ListOf(slices.DeleteFunc(has, in(row)))
	}
	return after
}

// change adds a change of field i of the brief if there is one to make, and finds
// the account that a reference means.
func (d *Decider) change(e *Entry, i int, c account.Change) {
	f := &d.Brief.Fields[i]
	if f.Among != "" && c.After.Filled() {
		name, problem := d.Ties.Catalogue.Among(*f, c.After.Text())
		if problem != nil {
			problem.Row, problem.Column = e.Row, d.Column(i)
			e.Findings = append(e.Findings, *problem)
			return
		}
		c.After = account.Of(name)
	}
	if f.Refers != "" && c.After.Filled() {
		if c.After == c.Before {
			return // an identifier that was exported, perhaps of nobody any more
		}
		known, ok := d.refer(e, i, c.Before.Text(), c.After.Text())
		if !ok {
			return
		}
		before := d.Index.label(c.Before.Text())
		c.After, c.Names = account.Of(known.ID), &[2]string{before, known.Label()}
	}
	if f.Same(c.Before.Text(), c.After.Text()) {
		return
	}
	a := d.attribute(i)
	if kept := a.Kept(c.Before.Text(), c.After.Text()); kept != c.After.Text() {
		if f.Same(c.Before.Text(), kept) {
			return
		}
		c.After = account.Of(kept)
	}
	if a.Unseen && e.Account != "" {
		e.Find(account.Note, account.NotCompared, f.Name, d.Column(i), fmt.Sprintf("the system does not show %s, so that it is set for new accounts only", f.Name))
		return
	}
	if a.Immutable && c.Before.Filled() {
		e.Find(account.Error, account.ImmutableField, f.Name, d.Column(i), fmt.Sprintf("%s is “%s” and cannot be changed to “%s”", f.Name, c.Before.Text(), c.After.Text()))
	}
	e.Changes = append(e.Changes, c)
}

// attribute is how the system takes a field of the brief.
func (d *Decider) attribute(i int) *account.Attribute {
	if d.attributes == nil {
		d.attributes = make([]account.Attribute, len(d.Brief.Fields))
		for i := range d.Brief.Fields {
			d.attributes[i], _ = d.Schema.Attribute(d.Brief.Fields[i].Name)
		}
	}
	return &d.attributes[i]
}

// refer finds the account that the value of a reference means. If a row of the
// sheet is to create it, there is a step for it instead.
func (d *Decider) refer(e *Entry, i int, before, text string) (known *account.Account, ok bool) {
	f := d.Brief.Fields[i]
	by := d.Schema.Field(f.Refers)
	switch hits := d.Index.Find(by.Name, text); len(hits) {
	case 0:
		if row := d.Row(e.Row, by, text); row > 0 {
			e.Steps = append(e.Steps, membership.Step{Do: membership.Refer, Kind: f.Name, Name: text, Row: row})
			return nil, false
		}
		e.Find(account.Error, account.UnknownPerson, f.Name, d.Column(i), fmt.Sprintf("the %s “%s” is nobody's: neither an account nor another row has this %s", f.Label, text, by.Label))
	case 1:
		// Where its own row may have the account called otherwise, that comes first.
		if row := d.Row(e.Row, by, text); d.Can.Moves && row > 0 && !f.Same(before, hits[0].ID) {
			e.Steps = append(e.Steps, membership.Step{Do: membership.Refer, Kind: f.Name, Name: text, Row: row})
			return nil, false
		}
		if hits[0].ID == e.Account {
			e.Find(account.Note, account.RefersToItself, f.Name, d.Column(i), fmt.Sprintf("%s is their own %s", text, f.Label))
		}
		return hits[0], true
	default:
		e.Find(account.Error, account.TwoAccounts, f.Name, d.Column(i), fmt.Sprintf("the %s “%s” finds two accounts: %s (%s) and %s (%s)", f.Label, text, hits[0].Label(), hits[0].ID, hits[1].Label(), hits[1].ID))
	}
	return nil, false
}

// tie adds the steps that the row's memberships take.
func (d *Decider) tie(e *Entry, w *mapping.Wanted, found *account.Account) {
	if d.Ties == nil || account.HasError(e.Findings) {
		return
	}
	id := ""
	if found != nil {
		id = found.ID
	}
	steps, findings := d.Ties.Decide(w, id)
	e.Findings = append(e.Findings, findings...)
	for _, s := range steps {
		d.step(e, s, found)
	}
}

// step adds a step to the entry. A membership that is kept as a value of one of
// the account's fields is a change of that field.
func (d *Decider) step(e *Entry, s membership.Step, found *account.Account) {
	d.booked = append(d.booked, s)
	about, _ := d.Ties.Catalogue.Kind(s.Kind)
	if about.Field == "" {
		e.Steps = append(e.Steps, s)
		return
	}
	c := account.Change{Field: about.Field}
	if found != nil {
		c.Before = found.Field(about.Field)
	}
	c.After = c.Before
	if at := slices.IndexFunc(e.Changes, func(c account.Change) bool { return c.Field == about.Field }); at >= 0 {
		c = e.Changes[at]
	}
	mode := brief.Add
	if s.Do == membership.Leave {
		mode = brief.Drop
	}
	c.After = account.Of(merged(mode, c.After.Text(), s.Thing))
	setTo(e, c)
}

// taken finds unique values of the row that belong to another account.
func (d *Decider) taken(e *Entry, w *mapping.Wanted, own string) {
	for _, i := range d.Unique {
		f := d.Brief.Fields[i]
		value := w.Values[i]
		if !f.Send || !value.Filled() || own != "" && (f.Unique == brief.UniqueNumber || w.IsFallback(i)) {
			continue
		}
		for _, a := range d.Index.Find(f.Name, value.Text()) {
			if a.ID != own {
				e.Find(account.Error, account.TakenValue, f.Name, d.Column(i), fmt.Sprintf("%s “%s” already belongs to the account %s (%s)", f.Label, value.Text(), a.Label(), a.ID))
				break
			}
		}
	}
}
