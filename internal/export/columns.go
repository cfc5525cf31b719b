package export

import (
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// A Field is one that a system takes, as a person is told of it.
type Field struct {
	account.Attribute
	Alias   string `json:"alias,omitempty"`
	Short   string `json:"short,omitempty"` // the last part of the name, where only one ends so
	Label   string `json:"label"`
	Example string `json:"example"`
}

// Fields are those of a schema, those of the catalogue first and in its
// order.
func Fields(schema *account.Schema) []Field {
	alias := map[string]string{}
	for short, full := range schema.Aliases {
		alias[full] = short
	}
	short := map[string]string{}
	for last, full := range schema.Short {
		short[full] = last
	}
	order := account.FieldNames()
	fields := make([]Field, 0, len(schema.Attributes))
	for _, attribute := range schema.Attributes {
		f := Field{Attribute: attribute, Alias: alias[attribute.Field], Short: short[attribute.Field], Label: attribute.Description, Example: attribute.Kind.Example()}
		if known, ok := account.FieldNamed(attribute.Field); ok {
			f.Label, f.Example = known.Label, known.Example()
		}
		if len(f.Allowed) > 0 {
			f.Example = f.Allowed[0]
		}
		fields = append(fields, f)
	}
	slices.SortStableFunc(fields, func(x, y Field) int {
		i, j := slices.Index(order, x.Field), slices.Index(order, y.Field)
		if i < 0 {
			i = len(order)
		}
		if j < 0 {
			j = len(order)
		}
		return i - j
	})
	return fields
}

// Rules says in words what a system demands of a field.
func (f Field) Rules() string {
	var rules []string
	for _, r := range []struct {
		holds bool
		text  string
	}{{f.Required, "required"}, {f.ReadOnly, "kept by the system"}, {f.Immutable, "set once"}, {f.Unique, "unique"}} {
		if r.holds {
			rules = append(rules, r.text)
		}
	}
	return strings.Join(rules, ", ")
}

// Name is what a brief calls a field by.
func (f Field) Name() string {
	switch {
	case f.Alias != "":
		return f.Alias
	case f.Short != "":
		return f.Short
	}
	return f.Field
}

// A Column is one of a sheet for a system, with the field that it gives.
type Column struct {
	sheet.BlankColumn
	Field Field
}

// Columns are those for the fields a system takes and a person can be
// expected to know; with only, those and in that order; with all, every one.
func Columns(schema *account.Schema, only []string, all bool) ([]Column, error) {
	var columns []Column
	var names []string
	for _, f := range Fields(schema) {
		heading := f.Alias
		if known, ok := account.FieldNamed(f.Field); ok && len(known.Headings) > 0 {
			heading = known.Headings[0]
		}
		name := f.Name()
		if asked := slices.Contains(only, f.Field) || slices.Contains(only, name); heading == "" && (all || asked) {
			heading = name
		}
		if !f.ReadOnly {
			names = append(names, name)
		}
		if f.ReadOnly || heading == "" {
			continue
		}
		if len(only) > 0 && !slices.Contains(only, name) && !slices.Contains(only, f.Field) {
			continue
		}
		columns = append(columns, f.column(heading))
	}
	for _, name := range only {
		if !slices.ContainsFunc(columns, func(c Column) bool { return c.Field.Field == name || c.Field.Name() == name }) {
			remedy := "“evenledger fields” lists those it takes."
			if near := words.Nearest(name, names); near != "" {
				remedy = fmt.Sprintf("Did you mean “%s”?", near)
			}
			return nil, &account.Mistake{Message: fmt.Sprintf("the system takes no field “%s”", name), Remedy: remedy}
		}
	}
	if len(only) > 0 {
		slices.SortStableFunc(columns, func(x, y Column) int {
			at := func(c Column) int {
				return max(slices.Index(only, c.Field.Field), slices.Index(only, c.Field.Name()))
			}
			return at(x) - at(y)
		})
	}
	return columns, nil
}

// column is the field's column under a heading.
func (f Field) column(heading string) Column {
	c := Column{BlankColumn: sheet.BlankColumn{Heading: heading, Allowed: f.Allowed, Required: f.Required}, Field: f}
	switch f.Kind {
	case account.YesNo:
		c.Allowed = []string{"yes", "no"}
	case account.Email:
		c.Holds = "@"
	case account.Login:
		c.Lacks = " "
	}
	first := min(1, len(f.Label))
	c.Note = strings.ToUpper(f.Label[:first]) + f.Label[first:]
	if rules := f.Rules(); rules != "" {
		c.Note += "; " + rules
	}
	if c.Note += "."; f.Example != "" {
		c.Note += "\nSuch as: " + f.Example
	}
	return c
}

// LeftOut says which fields and memberships have no column, and what writes them.
func LeftOut(schema *account.Schema, columns []Column, kinds []string) string {
	var left []string
	for _, f := range Fields(schema) {
		if !f.ReadOnly && !slices.ContainsFunc(columns, func(c Column) bool { return c.Field.Field == f.Field }) {
			left = append(left, f.Name())
		}
	}
	if left = append(left, kinds...); len(left) == 0 {
		return ""
	}
	list := strings.Join(left, ", ")
	if len(left) > 8 {
		list = strings.Join(left[:8], ", ") + fmt.Sprintf(" and %d more", len(left)-8)
	}
	return "Left out: " + list + ". With --all they are there too."
}
