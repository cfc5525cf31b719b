package answer

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/export"
	"evenledger/internal/report"
	"evenledger/internal/words"
)

// Fields are those that a system takes of an account.
type Fields struct {
	System string
	Schema *account.Schema
}

// Document implements Answer.
func (s Fields) Document(context.Context) any {
	return map[string]any{"system": s.System, "fields": export.Fields(s.Schema), "lists": s.Schema.Lists}
}

// Draw implements Answer.
func (s Fields) Draw(_ context.Context, page *report.Page) error {
	fields, schema := export.Fields(s.Schema), s.Schema
	page.Line("%s takes %d fields of an account", page.Bold(s.System), len(fields))
	page.Line("")
	table := page.Listing(report.Column{Title: "Field", Width: 21}, report.Column{Title: "kept in", Width: 19, Rank: 1}, report.Column{Title: "kind", Width: 10}, report.Column{Title: "rules", Width: 25}, report.Column{Title: "values", Rank: 2})
	for _, f := range fields {
		name := f.Name()
		var values report.Cell
		if f.Example != "" {
			values = report.Cell{Text: "such as " + f.Example, Style: page.Dim}
		}
		if len(f.Allowed) > 0 {
			values = report.Cell{Text: "one of " + strings.Join(f.Allowed, ", ")}
		}
		rules := report.Cell{Text: f.Rules()}
		if f.Required {
			rules.Style = page.Bold
		}
		table.Row(report.Cell{Text: name}, report.Cell{Text: attributeOf(schema, f.Field), Style: page.Dim}, report.Cell{Text: f.Kind.String()}, rules, values)
	}
	ownFields(page, fields)
	if len(schema.Lists) > 0 {
		page.Line("")
		page.Line("%s", page.Bold("Lists whose values have parts, for “parts” in a brief"))
		for _, list := range slices.Sorted(maps.Keys(schema.Lists)) {
			page.Line("  %s", list)
			page.Line("      %s", page.Dim(strings.Join(schema.Lists[list], ", ")))
		}
	}
	page.Next("evenledger blank "+s.System+" -o blank.xlsx", "evenledger lookup "+s.System)
	return nil
}

// attributeOf is where the system keeps a field, if it calls that otherwise.
func attributeOf(schema *account.Schema, field string) string {
	if a, ok := schema.Attribute(field); ok && a.Path != field {
		return a.Path
	}
	return ""
}

// ownFields writes the full names of the system's own fields.
func ownFields(page *report.Page, fields []export.Field) {
	title := false
	for _, f := range fields {
		if f.Name() == f.Field {
			continue
		}
		if !title {
			page.Line("")
			page.Line("%s", page.Bold("The system's own, in full"))
			title = true
		}
		page.Line("  %s%s", report.Pad(report.Clip(f.Name(), 21), 22), f.Field)
	}
}

// aboutThing says what is to be known of a thing before it is joined.
func aboutThing(t account.Thing) string {
	var parts []string
	if t.Seats >= 0 {
		parts = append(parts, fmt.Sprintf("%s seats", report.Number(t.Seats)))
	}
	if t.Nested > 0 {
		parts = append(parts, fmt.Sprintf("%s in it, whose own members are not counted", report.Counted(t.Nested, "group", "groups")))
	}
	if t.Closed {
		parts = append(parts, "closed")
	}
	if t.Elevated {
		parts = append(parts, "elevated")
	}
	if len(t.Roles) > 0 {
		parts = append(parts, "as "+strings.Join(t.Roles, ", "))
	}
	if len(t.Sections) > 0 {
		parts = append(parts, "in "+strings.Join(t.Sections, ", "))
	}
	if len(parts) == 0 {
		return ""
	}
	return "  " + strings.Join(parts, " · ")
}

// Kinds are what a system has besides accounts, and how many there are of each.
type Kinds struct {
	System string
	Kinds  []account.ThingKind
	Counts map[string]int
}

// Document implements Answer.
func (k Kinds) Document(context.Context) any {
	return map[string]any{"system": k.System, "kinds": k.Counts}
}

// Draw implements Answer.
func (k Kinds) Draw(_ context.Context, page *report.Page) error {
	for _, kind := range k.Kinds {
		page.Line("  %s %6s", report.Pad(kind.Name, 20), report.Number(k.Counts[kind.Name]))
	}
	if len(k.Kinds) == 0 {
		page.Line("%s has nothing besides accounts.", k.System)
		return nil
	}
	page.Next("evenledger lookup " + k.System + " " + k.Kinds[0].Name)
	return nil
}

// Things are those of one kind that were asked for.
type Things app.Things

// Document implements Answer.
func (s Things) Document(context.Context) any {
	return map[string]any{"system": s.System, "kind": s.Kind, "total": s.Total, "things": s.Things}
}

// Draw implements Answer.
func (s Things) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s of %s in %s", report.Number(len(s.Things)), report.Number(s.Total)+" "+s.Kind, page.Bold(s.System))
	if len(s.Things) > 0 {
		page.Line("")
		page.Line("%s", page.Bold(report.Pad("  Name", 40)+report.Pad("id", 28)+" members"))
	}
	for _, t := range s.Things {
		members := "?"
		if t.Members >= 0 {
			members = report.Number(t.Members)
		}
		more := page.Dim(aboutThing(t))
		if s.Called[words.Key(t.Name)] > 1 {
			more = page.Level(account.Warning, "  another has this name: use the id")
		}
		page.Line("  %s%s%8s%s", report.Pad(report.Clip(t.Name, 37), 38), report.Pad(report.Clip(t.ID, 27), 28), members, more)
	}
	if len(s.Things) == 0 {
		page.Next("evenledger lookup " + s.System + " " + s.Kind)
	}
	return nil
}
