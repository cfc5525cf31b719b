package drafting

import (
	"fmt"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/mapping"
	"evenledger/internal/secret"
	"evenledger/internal/store"
)

func entryAt(row int) store.Filter { return store.Filter{Rows: []int{row}} }

// seal takes passwords, and what looks like some, out of the row's cells, and seals a
// given one, so that none stands in the ledger.
func (d *making) seal(cells []string, w *mapping.Wanted) ([]string, error) {
	cells = d.Mapper.Conceal(cells)
	if w.Password == "" || w.Aside || d.brief.Password.New != "given" {
		w.Password = "" // it is wanted only of a new account
		return cells, nil
	}
	var err error
	w.Password, err = d.vault.SealGiven(w.Password)
	return cells, err
}

// password gives a new account's entry its sealed password.
func (d *making) password(e *batch.Entry, w *mapping.Wanted) error {
	p := &d.brief.Password
	if p.New == "" || e.Intent != account.Create || e.Outcome != account.Waiting {
		return nil
	}
	refuse := func(code account.Code, column, message string) {
		d.ties.Return(e.Steps)
		e.Find(account.Error, code, "password", column, message)
		e.Refuse()
	}
	switch {
	case w.Password != "" && w.Weak != "":
		refuse(account.WeakPassword, p.From, w.Weak)
		return nil
	case w.Password != "":
		e.Secret = w.Password
		return nil
	case !p.Generates():
		refuse(account.BlankRequired, p.From, "a new account needs a password, and none is given")
		return nil
	}
	recipe := p.Recipe(w.Pattern)
	if bits := recipe.Bits(); bits < secret.Enough {
		refuse(account.WeakPassword, "", fmt.Sprintf("passwords made like “%s” can be guessed: there are 2^%.0f of them, and 2^%d is the least", w.Pattern, bits, secret.Enough))
		return nil
	}
	made, broken, err := recipe.MakeFor(d.Rules)
	if err != nil {
		return err
	}
	if broken != "" {
		refuse(account.WeakPassword, "", "the brief's recipe makes passwords that will not do: "+broken)
		return nil
	}
	e.Secret, err = d.vault.Seal(made)
	return err
}

// extra are the fields that a new account gets besides the brief's.
func (d *making) extra() []account.Change {
	if d.brief.Password.New == "" || !d.brief.Password.Change || d.Renew == "" {
		return nil
	}
	return []account.Change{{Field: d.Renew, After: account.Of("true")}}
}
