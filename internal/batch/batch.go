// Package batch decides what a row comes to: what is wanted, held against the
// accounts that were found, gives an entry.
//
// It is pure: it asks no system, writes nothing, and gives the same entries for
// the same input. Every row it is given comes to exactly one entry.
package batch

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
)

// A State is how far a batch has come.
type State string

// The states of a batch.
const (
	Drafting State = "drafting" // being made; such a batch is not shown
	Drafted  State = "drafted"
	Posting  State = "posting"
	Stopped  State = "stopped"
	Posted   State = "posted"
)

// A Batch is what is known of a batch as a whole.
type Batch struct {
	ID         int
	State      State
	Made       time.Time // when it was drafted
	Posted     time.Time // when it was last posted; zero: not yet
	By         string    // who drafted it
	Sheet      string    // the sheet's file name
	Separator  string    // of the sheet
	Headings   []string
	Above      [][]string // rows above the headings
	Encoding   string
	HeadingRow int
	Brief      string // as it was named; empty: recognised headings
	System     string
	URL        string   // of the system, as it was drafted for
	Policies   string   // in one sentence
	Taken      string   // which rows were taken, if not all
	Fields     []string // fields of accounts that the batch looks at
	Match      []string
	Rows       int // rows in
}

// An Entry is what one row comes to.
type Entry struct {
	Row      int
	Key      string // what names the row for a person
	Intent   account.Intent
	Outcome  account.Outcome
	Account  string                   // the system's identifier; empty before it is created
	Version  string                   // of the account, as drafted
	Changes  []account.Change         // in the brief's order; for a new account all its fields
	Known    map[string]account.Value // the account's fields, as drafted
	Findings []account.Finding
	Cells    []string // of the row, as they came
}

// Find adds a finding at the entry's row.
func (e *Entry) Find(level account.Level, code, field, column, message string) {
	f := account.Find(level, code, message)
	f.Row, f.Field, f.Column = e.Row, field, column
	e.Findings = append(e.Findings, f)
}

// Refuse refuses the entry for the last finding added.
func (e *Entry) Refuse() {
	e.Outcome, e.Intent, e.Changes = account.Refused, account.None, nil
}

// Key names the row of what is wanted: the first key that has a value.
func Key(b *brief.Brief, w *mapping.Wanted) string {
	for _, name := range append(slices.Clone(b.Match), "userName", "email") {
		if v := w.Value(b, name); v.Filled() {
			return v.Text()
		}
	}
	return ""
}

// An Index finds accounts by the fields that matter to a batch.
type Index struct {
	byKey map[string]map[string][]*account.Account // field → key of value → accounts
	byID  map[string]*account.Account
	field map[string]account.Field
	want  map[string]map[string]bool

	// Numbered is the field in which an account is wanted as well if its value
	// is a wanted one with a number behind; empty: none.
	Numbered string
}

// NewIndex returns an index by the given fields. It keeps only accounts that
// have one of the values wanted there.
func NewIndex(fields []account.Field, want map[string][]string) *Index {
	x := &Index{byKey: map[string]map[string][]*account.Account{}, byID: map[string]*account.Account{}, field: map[string]account.Field{}, want: map[string]map[string]bool{}}
	for _, f := range fields {
		x.byKey[f.Name], x.field[f.Name], x.want[f.Name] = map[string][]*account.Account{}, f, map[string]bool{}
		for _, value := range want[f.Name] {
			x.want[f.Name][f.Key(value)] = true
		}
	}
	return x
}

// Add takes an account in if it is wanted.
func (x *Index) Add(a account.Account) {
	kept := x.byID[a.ID]
	for name, f := range x.field {
		value := a.Field(name)
		if !value.Filled() {
			continue
		}
		key := f.Key(value.Text())
		if !x.want[name][key] && !(name == x.Numbered && x.want[name][strings.TrimRight(key, "0123456789")]) {
			continue
		}
		if kept == nil {
			kept = &a
			x.byID[a.ID] = kept
		}
		if !slices.Contains(x.byKey[name][key], kept) {
			x.byKey[name][key] = append(x.byKey[name][key], kept)
		}
	}
}

// Find returns the accounts whose field has the value.
func (x *Index) Find(field, value string) []*account.Account {
	if f, ok := x.field[field]; ok {
		return x.byKey[field][f.Key(value)]
	}
	return nil
}

// A Decider decides the rows of one batch in their order.
type Decider struct {
	Brief  *brief.Brief
	Schema *account.Schema
	Index  *Index
	Unique []int // fields of the brief in which no two accounts agree

	// Missing returns what the system wants of a new account and the row lacks.
	Missing func(*mapping.Wanted) []account.Finding
	// Remap maps the row anew with the numbered field's value given.
	Remap func(value string)
	// Free returns the first value that is free of base, others, and the last of
	// them with a number behind it.
	Free func(f brief.Field, base string, others []string, taken func(string) bool) (string, bool)
	// Column names the column of a field of the brief.
	Column func(field int) string

	matched map[string]int  // account → row it was matched by
	given   map[string]bool // values of the numbered field given to new accounts
}

// Decide turns what a row wants into its entry. If the row comes to an account
// that an earlier row came to, that row is returned as well: it is to be refused
// too, as nobody can say which of them is right.
func (d *Decider) Decide(e *Entry, w *mapping.Wanted) (alsoRefuse int) {
	e.Key, e.Findings = Key(d.Brief, w), w.Findings
	switch {
	case w.Aside:
		e.Outcome = account.Aside
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
		d.decideNew(e, w)
		return 0
	}
	if first, taken := d.matched[found.ID]; taken {
		e.Find(account.Error, "same-account", "", "", fmt.Sprintf("row %d comes to the same account, %s", first, found.Label()))
		e.Refuse()
		return first
	}
	if d.matched == nil {
		d.matched = map[string]int{}
	}
	d.matched[found.ID] = w.Row
	d.decideKnown(e, w, found)
	return 0
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
		if !value.Filled() {
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
			e.Find(account.Error, "two-accounts", name, d.Column(i), fmt.Sprintf("%s “%s” finds two accounts: %s (%s) and %s (%s)", d.Brief.Fields[i].Label, value.Text(), hits[0].Label(), hits[0].ID, hits[1].Label(), hits[1].ID))
			e.Refuse()
			return nil
		case found == nil:
			other, differs := d.belongsElsewhere(hits[0], w, at)
			if differs && numbered {
				continue // another person's; a number will be put behind
			}
			if differs {
				f := d.Brief.Fields[other]
				e.Find(account.Error, "different-person", f.Name, d.Column(other), fmt.Sprintf("%s “%s” finds the account %s, but its %s is “%s” and not “%s”", d.Brief.Fields[i].Label, value.Text(), hits[0].Label(), f.Label, hits[0].Field(f.Name).Text(), w.Values[other].Text()))
				e.Refuse()
				return nil
			}
			found, by = hits[0], d.Brief.Fields[i].Label
		case hits[0] != found && !numbered:
			e.Find(account.Error, "two-things", name, d.Column(i), fmt.Sprintf("%s finds the account %s (%s), but %s “%s” belongs to %s (%s)", by, found.Label(), found.ID, d.Brief.Fields[i].Label, value.Text(), hits[0].Label(), hits[0].ID))
			e.Refuse()
			return nil
		}
	}
	if keys == 0 {
		e.Find(account.Error, "no-key", "", "", "the row has no value in any field that finds an account")
		e.Refuse()
	}
	return found
}

// belongsElsewhere reports the first earlier key in which the account has
// another value than the row: it is another person's account.
func (d *Decider) belongsElsewhere(a *account.Account, w *mapping.Wanted, before int) (field int, differs bool) {
	for _, name := range d.Brief.Match[:before] {
		i := d.Brief.Field(name)
		has, wants := a.Field(name), w.Values[i]
		if d.Brief.Fields[i].Unique != brief.UniqueNumber && has.Filled() && wants.Filled() && !d.Brief.Fields[i].Same(has.Text(), wants.Text()) {
			return i, true
		}
	}
	return 0, false
}

func (d *Decider) decideNew(e *Entry, w *mapping.Wanted) {
	switch d.Brief.New {
	case brief.Skip:
		e.Outcome = account.Aside
		return
	case brief.Refuse:
		e.Find(account.Error, "new-refused", "", "", fmt.Sprintf("no account was found for “%s”", e.Key))
		e.Refuse()
		return
	}
	if n := d.Brief.Numbered(); n >= 0 && w.Values[n].Filled() {
		d.number(w, n)
	}
	e.Findings = append(w.Findings, d.Missing(w)...)
	if d.taken(e, w, ""); account.HasError(e.Findings) {
		e.Refuse()
		return
	}
	for i, f := range d.Brief.Fields {
		value := w.Values[i]
		if !value.Present() {
			value = f.Fallback // the sheet does not speak of it
		}
		if f.Send && value.Filled() {
			e.Changes = append(e.Changes, account.Change{Field: f.Name, After: value})
		}
	}
	if len(e.Changes) == 0 {
		e.Find(account.Error, "nothing-to-send", "", "", "the row gives the new account no value")
		e.Refuse()
		return
	}
	e.Intent, e.Outcome = account.Create, account.Waiting
	e.Key = Key(d.Brief, w)
}

// number gives a new account the first value of the numbered field that neither
// an account nor an earlier row has. The rows were numbered among themselves when
// they were checked; which of them are new is known only now.
func (d *Decider) number(w *mapping.Wanted, n int) {
	f := d.Brief.Fields[n]
	free, ok := d.Free(f, w.Base, w.Others, func(text string) bool { return d.given[f.Key(text)] || len(d.Index.Find(f.Name, text)) > 0 })
	if !ok {
		found := account.Find(account.Error, "no-free-value", fmt.Sprintf("“%s” and what could stand for it are all taken", w.Base))
		found.Row, found.Field, found.Column = w.Row, f.Name, d.Column(n)
		w.Findings = append(w.Findings, found)
		return
	}
	if d.given == nil {
		d.given = map[string]bool{}
	}
	d.given[f.Key(free)] = true
	if free != w.Values[n].Text() {
		d.Remap(free)
	}
}

func (d *Decider) decideKnown(e *Entry, w *mapping.Wanted, found *account.Account) {
	e.Account, e.Version = found.ID, found.Version
	switch d.Brief.Known {
	case brief.Skip:
		e.Outcome = account.Aside
		return
	case brief.Refuse:
		e.Find(account.Error, "known-refused", "", "", fmt.Sprintf("the account %s exists already", found.Label()))
		e.Refuse()
		return
	}
	n := d.Brief.Numbered()
	if n >= 0 {
		// A sign-in name once given stays, and what is made from it follows it.
		if own := found.Field(d.Brief.Fields[n].Name); own.Filled() {
			if w.Values[n].Filled() && w.Values[n] != own {
				d.Remap(own.Text())
			}
		} else {
			n = -1
		}
	}
	e.Findings = w.Findings
	e.Known = map[string]account.Value{}
	for i, f := range d.Brief.Fields {
		before, after := found.Field(f.Name), w.Values[i]
		if !f.Send {
			continue
		}
		if before.Present() {
			e.Known[f.Name] = before
		}
		if i == n || !after.Present() || f.Same(before.Text(), after.Text()) || d.Brief.Known == brief.Fill && before.Filled() {
			continue
		}
		if a, ok := d.Schema.Attribute(f.Name); ok && a.Immutable && before.Filled() {
			e.Find(account.Error, "immutable-field", f.Name, d.Column(i), fmt.Sprintf("%s is “%s” and cannot be changed to “%s”", f.Name, before.Text(), after.Text()))
		}
		e.Changes = append(e.Changes, account.Change{Field: f.Name, Before: before, After: after})
	}
	if d.taken(e, w, found.ID); account.HasError(e.Findings) {
		e.Refuse()
		return
	}
	if len(e.Changes) == 0 {
		e.Intent, e.Outcome = account.Keep, account.Unchanged
		return
	}
	e.Intent, e.Outcome = account.Update, account.Waiting
}

// taken finds unique values of the row that belong to another account.
func (d *Decider) taken(e *Entry, w *mapping.Wanted, own string) {
	for _, i := range d.Unique {
		f := d.Brief.Fields[i]
		value := w.Values[i]
		if !f.Send || !value.Filled() || own != "" && f.Unique == brief.UniqueNumber {
			continue
		}
		for _, a := range d.Index.Find(f.Name, value.Text()) {
			if a.ID != own {
				e.Find(account.Error, "taken-value", f.Name, d.Column(i), fmt.Sprintf("%s “%s” already belongs to the account %s (%s)", f.Label, value.Text(), a.Label(), a.ID))
				break
			}
		}
	}
}

// Policies says in one sentence what a brief does with rows.
func Policies(b *brief.Brief) string {
	what := map[brief.Policy]string{
		brief.Create: "new people get an account",
		brief.Update: "known accounts are updated where they differ",
		brief.Fill:   "known accounts get only what is empty in them",
	}
	newPart, knownPart := what[b.New], what[b.Known]
	switch b.New {
	case brief.Skip:
		newPart = "rows without an account are set aside"
	case brief.Refuse:
		newPart = "rows without an account are refused"
	}
	switch b.Known {
	case brief.Skip:
		knownPart = "rows whose account exists are set aside"
	case brief.Refuse:
		knownPart = "rows whose account exists are refused"
	}
	keys := ""
	for i, name := range b.Match {
		if i > 0 {
			keys += ", then "
		}
		keys += name
	}
	return fmt.Sprintf("Accounts are found by %s; %s; %s.", keys, newPart, knownPart)
}
