package batch

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
)

// Calling returns the field by which accounts are called in their unit, and the field that says which that is, where no two of
// a unit may be called alike and the system does not keep them apart anyway; empty: there are none.
func Calling(schema *account.Schema, names []string) (naming, place string) {
	for _, name := range names {
		if schema.Field(name).Kind == account.Place {
			place = name
		} else {
			naming = name
		}
	}
	if a, _ := schema.Attribute(naming); a.Unique {
		naming = ""
	}
	return naming, place
}

// called sees that nobody else of the unit is called as the account is to be: in the system, or by a row before.
// Where the brief has a number put behind, it is.
func (d *Decider) called(e *Entry, found *account.Account) {
	naming, place := Calling(d.Schema, d.Can.Names)
	i := d.Brief.Field(naming)
	if naming == "" || i < 0 {
		return
	}
	at, own, moves := -1, "", found == nil
	if found != nil {
		own = found.ID
	}
	is := func(field string) account.Value {
		for n, c := range e.Changes {
			if c.Field == field {
				if moves = true; field == naming {
					at = n
				}
				return c.After
			}
		}
		if found == nil {
			return account.Value{}
		}
		return found.Field(field)
	}
	name, unit := is(naming).Text(), cmp.Or(is(place).Text(), "/") // as paths of places have the top
	if !moves || name == "" {
		return
	}
	key := func(name string) [2]string {
		return [2]string{d.Schema.Field(place).Key(unit), d.Schema.Field(naming).Key(name)}
	}
	free, f := name, &d.Brief.Fields[i]
	for n := 2; ; n++ {
		who := d.namesake(naming, place, unit, free, own)
		if row := d.standing[key(free)]; who == "" && row > 0 && row != e.Row {
			who = fmt.Sprintf("row %d", row)
		}
		if who == "" {
			break
		}
		if f.Unique != brief.UniqueInUnit || at < 0 {
			e.Find(account.Error, account.TakenValue, naming, d.Column(i), fmt.Sprintf("in the unit “%s” %s is called “%s” already, and no two there can be", unit, who, free))
			e.Findings[len(e.Findings)-1].Remedy = fmt.Sprintf("Have the brief tell them apart: “%s: {…, unique: in-unit}” puts a number behind the second.", naming)
			return
		}
		free = name + " " + strconv.Itoa(n)
	}
	if d.standing == nil {
		d.standing = map[[2]string]int{}
	}
	if d.standing[key(free)] = e.Row; free != name {
		e.Changes[at].After = account.Of(free)
	}
}

// namesake is another account of a unit that is called so; empty: there is none.
func (d *Decider) namesake(naming, place, unit, name, own string) string {
	for _, a := range d.Index.Find(naming, name) {
		if a.ID != own && d.Schema.Field(place).One(a.Field(place).Text(), unit) {
			return fmt.Sprintf("%s (%s)", a.Label(), a.ID)
		}
	}
	return ""
}

// keepsNumber reports whether an account is called by a name with a number behind it that the brief had put there.
func keepsNumber(f *brief.Field, before, after string) bool {
	number, is := strings.CutPrefix(before, after+" ")
	n, err := strconv.Atoi(number)
	return f.Unique == brief.UniqueInUnit && is && err == nil && n > 1
}
