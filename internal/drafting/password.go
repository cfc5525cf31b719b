package drafting

import (
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/secret"
	"evenledger/internal/store"
)

func entryAt(row int) store.Filter { return store.Filter{Rows: []int{row}} }

// seal takes passwords, and what looks like some, out of the row's cells, and seals a
// given one, so that none stands in the ledger.
func (d *making) seal(cells []string, w *mapping.Wanted) ([]string, error) {
	cells = d.Mapper.Conceal(cells)
	if w.Password == "" || w.Aside || !d.brief.Password.Given() {
		w.Password = ""
		return cells, nil
	}
	var err error
	w.Password, err = d.vault.SealGiven(w.Row, w.Password)
	return cells, err
}

// password gives an entry the sealed password that its account is to get.
func (d *making) password(e *batch.Entry, w *mapping.Wanted) error {
	p := &d.brief.Password
	source := p.New
	if e.Intent != account.Create {
		source = p.Known
	}
	renews := slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Do == membership.Renew })
	if source == "" || !e.Outcome.Waits() || e.Intent != account.Create && !renews {
		return nil
	}
	refuse := func(code account.Code, column, message string) {
		d.ties.Return(e.Steps)
		e.Find(account.Error, code, "password", column, message)
		e.Refuse()
	}
	switch {
	case source == "given" && w.Password != "" && w.Weak != "":
		refuse(account.WeakPassword, p.From, w.Weak)
		return nil
	case source == "given" && w.Password != "":
		e.Secret = w.Password
		return nil
	case source == "given" && !p.Blank:
		refuse(account.BlankRequired, p.From, "a new account needs a password, and none is given")
		return nil
	}
	recipe := p.Recipe(w.Pattern)
	if bits := recipe.Bits(); bits < secret.Enough {
		refuse(account.WeakPassword, "", fmt.Sprintf("passwords made like “%s” can be guessed: there are 2^%.0f of them, and 2^%d is the least", w.Pattern, bits, secret.Enough))
		return nil
	}
	var own []string
	for _, c := range e.Changes {
		own = append(own, c.After.Text())
	}
	for _, known := range e.Known {
		own = append(own, known.Text())
	}
	var made []string
	for range 1 + secret.Refusals {
		password, broken, err := recipe.MakeFor(d.rules(), own)
		if err != nil {
			return err
		}
		if broken != "" {
			refuse(account.WeakPassword, "", "the brief's recipe makes passwords that will not do: "+broken)
			return nil
		}
		made = append(made, password)
	}
	var err error
	e.Secret, err = d.vault.Seal(e.Row, secret.Several(made))
	return err
}

// rules are those that the workspace says the system has for passwords, and those that it
// tells itself.
func (d *making) rules() secret.Rules { return d.Rules.And(d.about.Rules) }

// extra are the fields that a new account gets besides the brief's.
func (d *making) extra() []account.Change {
	if field := d.renewal(); d.brief.Password.New != "" && field != "" {
		return []account.Change{{Field: field, After: account.Of("true")}}
	}
	return nil
}

// renewal is the field that has a person choose another password, if the brief wants that.
func (d *making) renewal() string {
	if d.brief.Password.Change {
		return d.Renew
	}
	return ""
}
