package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/export"
	"evenledger/internal/report"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

// target finds the system that a command names and connects to it.
func (a *front) target(args []string) (workspace.System, system.System, error) {
	w, err := a.FindWorkspace()
	if err != nil {
		return workspace.System{}, nil, err
	}
	name := ""
	if len(args) > 0 {
		name = args[0]
	}
	target, err := w.System(name)
	if err != nil {
		return target, nil, wrong(err.Error(), "")
	}
	client, err := a.Connect(target)
	return target, client, err
}

func (a *front) fieldsCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "fields [SYSTEM | SET]",
		GroupID: "prepare",
		Short:   "List the fields a system takes, asked of the system itself",
		Long: `Lists every field the system takes of an account: the name briefs use for it, the
kind of its values, whether a new account must have it, whether it may be changed
later, and which values it allows.`,
		Example:           "  evenledger fields crewdesk\n  evenledger fields crewdesk --json",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeSystems,
		RunE: func(cmd *cobra.Command, args []string) error {
			names := []string{""}
			if w, err := a.FindWorkspace(); err == nil && len(args) > 0 {
				names = systemsNamed(w, args[0])
			}
			return a.several("systems", names, func(i int) error {
				target, client, err := a.target(names[i : i+1])
				if err != nil {
					return err
				}
				about, err := client.Describe(cmd.Context())
				if err != nil {
					return err
				}
				return a.fields(target, about.Schema)
			})
		},
	}
}

func (a *front) fields(target workspace.System, schema *account.Schema) error {
	fields := export.Fields(schema)
	if a.json {
		return a.writeJSON(map[string]any{"system": target.Name, "fields": fields, "lists": schema.Lists})
	}
	page := a.page()
	page.Line("%s takes %d fields of an account", page.Bold(target.Name), len(fields))
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
	page.Next("evenledger blank "+target.Name+" -o blank.xlsx", "evenledger lookup "+target.Name)
	return page.Err()
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

func (a *front) lookupCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "lookup [SYSTEM] [KIND] [WORDS...]",
		GroupID: "prepare",
		Short:   "Find the names and ids of what a system has: groups and the like",
		Long: `Lists what a system has besides accounts, with name, id and members. With words,
only what has all of them in its name, or one of them as its id. Without a kind,
the kinds are listed.`,
		Example: `  evenledger lookup crewdesk
  evenledger lookup crewdesk groups
  evenledger lookup crewdesk groups deck`,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: a.completeLookups,
		RunE: func(cmd *cobra.Command, args []string) error {
			target, client, err := a.target(args)
			if err != nil {
				return err
			}
			about, err := client.Describe(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) < 2 {
				return a.lookupKinds(cmd.Context(), target, client, about.Kinds)
			}
			kind := args[1]
			var names []string
			for _, about := range about.Kinds {
				names = append(names, about.Name)
			}
			if !slices.Contains(names, kind) {
				remedy := "It has: " + strings.Join(names, ", ") + "."
				if near := words.Nearest(kind, names); near != "" {
					remedy = fmt.Sprintf("Did you mean “%s”?", near)
				}
				return wrong(fmt.Sprintf("%s has no %s", target.Name, kind), remedy)
			}
			return a.lookup(cmd.Context(), target, client, kind, args[2:])
		},
	}
}

func (a *front) lookupKinds(ctx context.Context, target workspace.System, client system.System, kinds []account.ThingKind) error {
	counts := map[string]int{}
	for _, kind := range kinds {
		for _, err := range client.Things(ctx, kind.Name, false) {
			if err != nil {
				return err
			}
			counts[kind.Name]++
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"system": target.Name, "kinds": counts})
	}
	page := a.page()
	for _, kind := range kinds {
		page.Line("  %s %6s", report.Pad(kind.Name, 20), report.Number(counts[kind.Name]))
	}
	if len(kinds) == 0 {
		page.Line("%s has nothing besides accounts.", target.Name)
		return page.Err()
	}
	page.Next("evenledger lookup " + target.Name + " " + kinds[0].Name)
	return page.Err()
}

func (a *front) lookup(ctx context.Context, target workspace.System, client system.System, kind string, wanted []string) error {
	things, names, all := []account.Thing{}, map[string]int{}, 0
	for t, err := range client.Things(ctx, kind, true) {
		if err != nil {
			return err
		}
		all++
		names[words.Key(t.Name)]++
		if isWanted(t, wanted) {
			things = append(things, t)
		}
	}
	slices.SortFunc(things, func(x, y account.Thing) int { return strings.Compare(words.Key(x.Name), words.Key(y.Name)) })
	if a.json {
		return a.writeJSON(map[string]any{"system": target.Name, "kind": kind, "total": all, "things": things})
	}
	page := a.page()
	page.Line("%s of %s in %s", report.Number(len(things)), report.Number(all)+" "+kind, page.Bold(target.Name))
	if len(things) > 0 {
		page.Line("")
		page.Line("%s", page.Bold(report.Pad("  Name", 40)+report.Pad("id", 28)+" members"))
	}
	for _, t := range things {
		members := "?"
		if t.Members >= 0 {
			members = report.Number(t.Members)
		}
		more := page.Dim(aboutThing(t))
		if names[words.Key(t.Name)] > 1 {
			more = page.Level(account.Warning, "  another has this name: use the id")
		}
		page.Line("  %s%s%8s%s", report.Pad(report.Clip(t.Name, 37), 38), report.Pad(report.Clip(t.ID, 27), 28), members, more)
	}
	if len(things) == 0 {
		page.Next("evenledger lookup " + target.Name + " " + kind)
	}
	return page.Err()
}

// aboutThing says what is to be known of a thing before it is joined.
func aboutThing(t account.Thing) string {
	var parts []string
	if t.Seats >= 0 {
		parts = append(parts, fmt.Sprintf("%s seats", report.Number(t.Seats)))
	}
	if t.Nested > 0 {
		parts = append(parts, fmt.Sprintf("%s in it, whose own members are not counted", counted(t.Nested, "group", "groups")))
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

// isWanted reports whether a thing has all the words in its name, or one of them
// as its id.
func isWanted(t account.Thing, wanted []string) bool {
	if slices.Contains(wanted, t.ID) {
		return true
	}
	name := words.Key(t.Name)
	return !slices.ContainsFunc(wanted, func(w string) bool { return !strings.Contains(name, words.Key(w)) })
}
