package drafting

import (
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/ledger"
	"evenledger/internal/mapping"
	"evenledger/internal/secret"
)

func entryAt(row int) ledger.Filter { return ledger.Filter{Rows: []int{row}} }

// seal takes a given password out of the row's cells and seals it, so that none
// stands in the ledger.
func (d *Draft) seal(cells []string, w *mapping.Wanted) ([]string, error) {
	column := d.Mapper.PasswordColumn()
	if column >= 0 && column < len(cells) {
		cells = slices.Clone(cells)
		cells[column] = ""
	}
	if d.brief.Password.New != "given" || w.Aside {
		return cells, nil
	}
	if w.Password == "" {
		return cells, nil // it is wanted only of a new account
	}
	var about []string
	for i, f := range d.brief.Fields {
		if v := w.Values[i]; v.Filled() && (f.Kind == account.Text || f.Kind == account.Login || f.Kind == account.Email) {
			about = append(about, v.Text())
		}
	}
	if w.Weak = secret.Weak(w.Password, about); w.Weak != "" {
		w.Weak = "the password can be guessed: " + w.Weak
	} else if broken := d.Rules.Breaks(w.Password); broken != "" {
		w.Weak = "the password is not one the system takes: " + broken
	}
	var err error
	w.Password, err = d.Vault.Seal(w.Password)
	return cells, err
}

// password gives a new account's entry its sealed password.
func (d *Draft) password(e *batch.Entry, w *mapping.Wanted) error {
	p := &d.brief.Password
	if p.New == "" || e.Intent != account.Create || e.Outcome != account.Waiting {
		return nil
	}
	if p.New == "given" {
		switch e.Secret = w.Password; {
		case w.Password == "":
			e.Find(account.Error, "blank-required", "password", p.From, "a new account needs a password, and none is given")
		case w.Weak != "":
			e.Find(account.Error, "weak-password", "password", p.From, w.Weak)
		default:
			return nil
		}
		d.ties.Return(e.Steps)
		e.Refuse()
		return nil
	}
	made, err := secret.Recipe{Length: p.Length, Alphabet: p.Alphabet, Words: p.Words, Pattern: w.Password}.Make()
	if err != nil {
		return err
	}
	why := secret.Weak(made, nil)
	if why == "" {
		why = d.Rules.Breaks(made)
	}
	if why != "" {
		d.ties.Return(e.Steps)
		e.Find(account.Error, "weak-password", "password", "", "the brief's recipe makes passwords that will not do: "+why)
		e.Refuse()
		return nil
	}
	e.Secret, err = d.Vault.Seal(made)
	return err
}

// extra are the fields that a new account gets besides the brief's.
func (d *Draft) extra() []account.Change {
	if d.brief.Password.New == "" || !d.brief.Password.Change || d.Renew == "" {
		return nil
	}
	return []account.Change{{Field: d.Renew, After: account.Of("true")}}
}
