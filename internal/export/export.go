// Package export says what a sheet for a system looks like: the fields that the system takes, in words and in
// order, and the columns of a blank. And it takes accounts out of a system as the rows of such a sheet, which can be
// edited and handed back in: one an account, or one a membership of some kind.
//
// It changes nothing. Accounts are written as they come; memory holds the memberships and
// the names of people that were asked for.
package export

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/expr"
	"evenledger/internal/membership"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// An Export is accounts on their way to a sheet.
type Export struct {
	System  system.System
	Columns []Column
	Kinds   []string // of memberships that have a column each
	Each    string   // the kind whose memberships are the rows, instead of Kinds; empty: accounts are

	Looked int // accounts looked at so far

	only    *brief.Brief // with one condition; nil: every account
	scope   *expr.Scope
	names   []string // of the fields to ask for
	ties    membership.Register
	things  map[string]map[string]string // kind → id → name
	persons map[string]string            // id → user name, if other accounts are named
}

// Register reads the memberships, and the names of accounts that others refer to.
func (e *Export) Register(ctx context.Context, about *system.Description) error {
	if e.Each != "" {
		e.Kinds = []string{e.Each}
	}
	e.things = map[string]map[string]string{}
	named := slices.ContainsFunc(e.Columns, func(c Column) bool { return c.Field.Kind == account.Person })
	if e.only != nil {
		named = named || slices.ContainsFunc(e.only.Only[0].Uses, func(i int) bool { return e.only.Fields[i].Kind == account.Person })
	}
	if named {
		e.persons = map[string]string{}
		for a, err := range e.System.List(ctx, []string{about.Naming}) {
			if err != nil {
				return err
			}
			e.persons[a.ID] = a.Label()
		}
	}
	if len(e.Kinds) == 0 {
		return nil
	}
	for _, kind := range e.Kinds {
		if known, has := about.Kind(kind); !has || known.Place != "" {
			var names []string
			for _, about := range about.Kinds {
				if about.Place == "" { // where accounts stand, a field says
					names = append(names, about.Name)
				}
			}
			return &account.Mistake{Message: fmt.Sprintf("the system has no %s", kind), Remedy: "It has: " + strings.Join(names, ", ") + "."}
		}
		e.things[kind] = map[string]string{}
		for t, err := range e.System.Things(ctx, kind, false) {
			if err != nil {
				return err
			}
			e.things[kind][t.ID] = t.Name
		}
		if err := e.ties.Read(ctx, e.System, kind, nil, membership.Anyone, membership.Silent); err != nil {
			return err
		}
	}
	return nil
}

// Headings are those of the sheet.
func (e *Export) Headings() []string {
	var headings []string
	for _, c := range e.Columns {
		headings = append(headings, c.Heading)
	}
	if e.Each != "" {
		return append(headings, words.Title(strings.TrimSuffix(e.Each, "s")), sheet.AccountHeading)
	}
	for _, kind := range e.Kinds {
		headings = append(headings, brief.All+kind)
	}
	return append(headings, sheet.AccountHeading)
}

// names of an account's memberships of a kind, as a cell has them.
func (e *Export) tied(id, kind string) []string {
	var texts []string
	for _, m := range e.ties.Of(id, kind) {
		name := e.things[kind][m.Thing]
		if name == "" {
			name = m.Thing
		}
		texts = append(texts, account.MembershipText(name, m.Role, m.Section))
	}
	slices.Sort(texts)
	return texts
}

// Only leaves accounts out for which an expression, that may speak of any field, does not
// hold; with none, nobody. It comes before Register.
func (e *Export) Only(schema *account.Schema, only, today string) error {
	for _, c := range e.Columns {
		e.names = append(e.names, c.Field.Field)
	}
	if only == "" {
		return nil
	}
	var fields []account.Field
	for _, f := range Fields(schema) {
		name := f.Name()
		field, known := account.FieldNamed(name)
		if !known {
			field = account.Field{Name: name, Label: name, Kind: f.Kind}
		}
		fields = append(fields, field)
	}
	var err error
	if e.only, err = brief.Condition(fields, only, today); err != nil {
		return err
	}
	e.scope = e.only.NewScope(nil)
	for _, i := range e.only.Only[0].Uses {
		if name := e.only.Fields[i].Name; !slices.Contains(e.names, name) {
			e.names = append(e.names, name)
		}
	}
	return nil
}

// takes reports whether the condition holds for an account.
func (e *Export) takes(a account.Account) (bool, error) {
	if e.only == nil {
		return true, nil
	}
	for _, i := range e.only.Only[0].Uses {
		value := a.Field(e.only.Fields[i].Name).Text()
		if name := e.persons[value]; e.only.Fields[i].Kind == account.Person && name != "" {
			value = name // people know each other by their names
		}
		e.scope.Set(i, value)
	}
	holds, err := e.only.Only[0].True(e.scope)
	if err != nil {
		return false, &account.Mistake{Message: fmt.Sprintf("the condition could not be worked out for the account %s: %s", a.Label(), err), Remedy: "Make it cope with fields that are blank."}
	}
	return holds, nil
}

// Write writes the accounts and returns how many rows there are.
func (e *Export) Write(ctx context.Context, out sheet.Writer, told func(looked int)) (rows int, err error) {
	if err := out.Write(e.Headings()); err != nil {
		return 0, err
	}
	cells := make([]string, len(e.Columns))
	for a, err := range e.System.List(ctx, e.names) {
		if err != nil {
			return rows, err
		}
		e.Looked++
		told(e.Looked)
		takes, err := e.takes(a)
		if err != nil {
			return rows, err
		}
		if !takes {
			continue
		}
		for i, c := range e.Columns {
			cells[i] = a.Field(c.Field.Field).Text()
			switch {
			case c.Field.Kind == account.List:
				cells[i] = sheet.JoinItems(account.Items(cells[i]))
			case c.Field.Kind == account.Person && e.persons[cells[i]] != "":
				cells[i] = e.persons[cells[i]]
			}
		}
		if e.Each != "" {
			for _, text := range e.tied(a.ID, e.Each) {
				if err := out.Write(append(cells, text, a.ID)); err != nil {
					return rows, err
				}
				rows++
			}
			continue
		}
		all := cells
		for _, kind := range e.Kinds {
			all = append(all, sheet.JoinItems(e.tied(a.ID, kind)))
		}
		if err := out.Write(append(all, a.ID)); err != nil {
			return rows, err
		}
		rows++
	}
	return rows, nil
}
