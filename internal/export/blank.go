package export

import (
	"fmt"
	"strings"

	"evenledger/internal/sheet"
)

// Workbook is a blank with notes in a tab beside.
func Workbook(columns []Column) sheet.Blank {
	b := sheet.Blank{Notes: [][]string{{"Column", "Must be there", "Kind", "Example", "Values to choose from", "What it is"}}}
	for _, c := range columns {
		b.Columns = append(b.Columns, c.BlankColumn)
		must := ""
		if c.Required {
			must = "yes"
		}
		b.Notes = append(b.Notes, []string{c.Heading, must, c.Field.Kind.InWords(), c.Field.Example, strings.Join(c.Allowed, ", "), strings.Trim(c.Field.Label+", "+c.Field.Rules(), ", ")})
	}
	return b
}

// Text is a blank without tabs: the notes stand above the headings, where they are passed over when it is handed
// back in. It is for a system or a brief, which is called so.
func Text(who string, columns []Column) [][]string {
	headings := make([]string, len(columns))
	about := make([]string, len(columns))
	for i, c := range columns {
		headings[i] = c.Heading
		about[i] = c.Heading + " is " + c.Field.Kind.InWords()
		if c.Field.Example != "" {
			about[i] = c.Heading + " such as " + c.Field.Example
		}
		if len(c.Allowed) > 0 {
			about[i] = c.Heading + " is one of " + strings.Join(c.Allowed, ", ")
		}
	}
	return [][]string{
		{fmt.Sprintf("A blank for %s. Fill in one row a person below the headings, and leave those as they are.", who)},
		{"Must be there: " + strings.Join(Required(columns), ", ")},
		{"Values: " + strings.Join(about, "; ")},
		headings,
	}
}

// Required are the headings of columns that must be filled in.
func Required(columns []Column) []string {
	required := []string{}
	for _, c := range columns {
		if c.Required {
			required = append(required, c.Heading)
		}
	}
	return required
}
