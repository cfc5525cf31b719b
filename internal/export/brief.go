package export

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// mostListed is how many names of things a cell lets one choose from: more are looked up.
const mostListed = 200

// OfBrief are the columns of a sheet that a brief reads, in its order. Things are the names of what a system has of a
// kind; none: nobody says.
func OfBrief(b *brief.Brief, schema *account.Schema, things func(kind string) []account.Thing) (columns []Column) {
	add := func(heading string, c Column) {
		if heading == "" {
			return
		}
		i := slices.IndexFunc(columns, func(has Column) bool { return words.Key(has.Heading) == words.Key(heading) })
		if i < 0 {
			c.Heading, i = heading, len(columns)
			columns = append(columns, c)
		} else if columns[i].Required = columns[i].Required || c.Required; len(columns[i].Allowed) == 0 && len(c.Allowed) > 0 { // several fields come from one column
			columns[i].Allowed, columns[i].Field.Example = c.Allowed, c.Field.Example
		}
		columns[i].Note = noteOf(columns[i])
	}
	fields := slices.Clone(b.Fields)
	slices.SortStableFunc(fields, func(x, y brief.Field) int { return cmp.Compare(x.Line, y.Line) })
	for i := range fields {
		add(first(fields[i].From), ofField(b, &fields[i], schema, things))
	}
	for i := range b.Memberships {
		m := &b.Memberships[i]
		c, roles := ofMembership(m, things(m.Kind))
		if len(m.RoleVia.ViaWords) > 0 {
			roles = m.RoleVia.ViaWords
		}
		add(first(m.Column.From), c)
		add(first(m.Role), Column{BlankColumn: sheet.BlankColumn{Allowed: roles}, Field: Field{Label: "the role in what stands beneath “" + first(m.Column.From) + "”", Example: at(roles, 0)}})
		add(first(m.Section), Column{Field: Field{Label: "the section of what stands beneath “" + first(m.Column.From) + "”"}})
	}
	if b.Password.From != "" {
		add(b.Password.From, Column{Field: Field{Label: "the password of a new account"}})
	}
	for _, e := range b.Expressions() {
		for _, heading := range e.Columns {
			add(heading, Column{Field: Field{Label: "used by the brief: " + e.Source}})
		}
	}
	return columns
}

// first is the heading of the first column of a family, or the one there is.
func first(heading string) string { return strings.Replace(heading, "*", "1", 1) }

func at(list []string, i int) string {
	if i < len(list) {
		return list[i]
	}
	return ""
}

// noteOf is what stands beside a heading.
func noteOf(c Column) string {
	note := c.Field.Label
	if note != "" {
		note = words.First(strings.ToUpper(note[:1])+note[1:], 400)
	}
	if c.Required {
		note += "; must be there"
	}
	if note += "."; c.Field.Example != "" {
		note += "\nSuch as: " + c.Field.Example
	}
	return note
}

// ofField is the column of a brief's field.
func ofField(b *brief.Brief, f *brief.Field, schema *account.Schema, things func(kind string) []account.Thing) Column {
	attribute, has := schema.Attribute(f.Name)
	known, listed := account.FieldNamed(f.Name)
	c := Column{Field: Field{Attribute: attribute, Label: f.Label, Example: f.Kind.Example()}}
	c.Field.Field, c.Field.Kind = f.Name, f.Kind
	if listed {
		c.Field.Example = known.Example()
	}
	if i := b.Intent(); i >= 0 && b.Fields[i].Name == f.Name {
		c.Field.Label, c.Allowed = "what is to happen to the account", brief.IntentWords()
	}
	switch {
	case len(f.ViaWords) > 0:
		c.Allowed = f.ViaWords
	case len(f.OneOfWords) > 0:
		c.Allowed = f.OneOfWords
	case f.Among != "":
		c.Allowed = namesOf(things(f.Among))
	case has && len(attribute.Allowed) > 0:
		c.Allowed = attribute.Allowed
	case f.Kind == account.YesNo:
		c.Allowed = []string{"yes", "no"}
	case f.Kind == account.Email:
		c.Holds = "@"
	case f.Kind == account.Login:
		c.Lacks = " "
	}
	if len(c.Allowed) > 0 {
		c.Field.Example = c.Allowed[0]
	}
	if f.Refers != "" {
		by := schema.Field(f.Refers)
		c.Field.Label, c.Field.Example = f.Label+": the "+by.Label+" of another account", by.Example()
	}
	sure := f.Make == nil && !f.Fallback.Filled()
	c.Required = f.Required || sure && (has && attribute.Required && b.New == brief.Create || slices.Contains(b.Match, f.Name) && len(b.Match) == 1)
	if f.Split != "" {
		c.Field.Label += fmt.Sprintf(", several with “%s” between", f.Split)
		c.Allowed = nil // a list to choose from takes one
	}
	if f.Fallback.Filled() {
		c.Field.Label += fmt.Sprintf("; left blank, new people get “%s”", f.Fallback.Text())
	} else if f.Make != nil {
		c.Field.Label += "; left blank, it is made"
	}
	return c
}

// ofMembership is the column of a kind of memberships, and the roles that there are.
func ofMembership(m *brief.Memberships, things []account.Thing) (c Column, roles []string) {
	c.Field.Kind = account.List
	c.Field.Label = m.Kind + " the person gets"
	if c.Allowed = m.Column.ViaWords; len(c.Allowed) == 0 && !m.MakeMissing {
		c.Allowed = namesOf(things)
	}
	c.Field.Example = at(c.Allowed, 0)
	if m.Column.Split != "" {
		c.Field.Label += fmt.Sprintf(", several with “%s” between", m.Column.Split)
		c.Allowed = nil
	}
	if m.Mode == brief.Drop {
		c.Field.Label = m.Kind + " that are taken from the person"
	}
	for _, t := range things {
		for _, role := range t.Roles {
			if !slices.Contains(roles, role) {
				roles = append(roles, role)
			}
		}
	}
	return c, roles
}

// namesOf are the names of things, if they are few enough to choose from.
func namesOf(things []account.Thing) (names []string) {
	if len(things) > mostListed {
		return nil
	}
	for _, t := range things {
		names = append(names, t.Name)
	}
	return names
}
