package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

func (a *app) blankCommand() *cobra.Command {
	var out string
	var only []string
	var overwrite, all bool
	cmd := &cobra.Command{
		Use:     "blank [SYSTEM] -o FILE",
		GroupID: "prepare",
		Short:   "Make an empty sheet for a system, for colleagues to fill in",
		Long: `Writes an empty sheet with a heading for each field the system takes, in plain
words. A workbook has lists to choose from, notes on each column, and cells that
keep zeros in front; CSV has the notes above the headings. What is filled in goes
back in with no brief.

With --all there is a column for each of the system's own fields too, and for groups,
courses, licences and roles.`,
		Example: `  evenledger blank crewdesk -o blank.xlsx
  evenledger blank crewdesk -o blank.csv --fields employeeNumber,givenName,familyName,userName`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeSystems,
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return wrong("say which file to write", "For example: evenledger blank crewdesk -o blank.xlsx")
			}
			if err := mayWrite(out, overwrite, "and may be filled in"); err != nil {
				return err
			}
			if !sheet.HasHeadings(out) {
				return wrong(out+" would have no headings, and a blank is nothing but", "Let its name end in .xlsx, .csv or .tsv.")
			}
			target, client, err := a.target(args)
			if err != nil {
				return err
			}
			schema, err := client.Describe(cmd.Context())
			if err != nil {
				return err
			}
			kinds, err := thingKinds(cmd.Context(), client)
			if err != nil {
				return err
			}
			return a.blank(target, schema, out, only, all, kinds)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, .xlsx, .csv or .tsv")
	cmd.Flags().StringSliceVar(&only, "fields", nil, "only these `FIELDS`, in this order")
	cmd.Flags().BoolVar(&all, "all", false, "also the system's own fields, and memberships")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

// thingKinds are the kinds of things a system has that a brief can name.
func thingKinds(ctx context.Context, client system.System) ([]string, error) {
	keeper, ok := client.(system.Keeper)
	if !ok {
		return nil, nil
	}
	known, err := keeper.ThingKinds(ctx)
	var names []string
	for _, about := range known {
		if slices.Contains(brief.Kinds(), about.Name) {
			names = append(names, about.Name)
		}
	}
	return names, err
}

// leftOutOf says which fields and memberships have no column, and what writes them.
func leftOutOf(schema *account.Schema, columns []blankColumn, kinds []string) string {
	var left []string
	for _, f := range toldFields(schema) {
		if !f.ReadOnly && !slices.ContainsFunc(columns, func(c blankColumn) bool { return c.field.Field == f.Field }) {
			left = append(left, f.name())
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

// blankColumn is a column of a blank with what is said about it.
type blankColumn struct {
	sheet.BlankColumn
	field toldField
}

// blankColumns are the columns for the fields a system takes and a person can be
// expected to know; with only, those and in that order; with all, every one.
func blankColumns(schema *account.Schema, only []string, all bool) ([]blankColumn, error) {
	var columns []blankColumn
	var names []string
	for _, f := range toldFields(schema) {
		heading := f.Alias
		if known, ok := account.FieldNamed(f.Field); ok {
			heading = known.Headings[0]
		}
		name := f.name()
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
		c := blankColumn{BlankColumn: sheet.BlankColumn{Heading: heading, Allowed: f.Allowed, Required: f.Required}, field: f}
		if f.Kind == account.YesNo {
			c.Allowed = []string{"yes", "no"}
		}
		switch f.Kind {
		case account.Email:
			c.Holds = "@"
		case account.Login:
			c.Lacks = " "
		}
		about := []string{strings.ToUpper(f.Label[:min(1, len(f.Label))]) + f.Label[min(1, len(f.Label)):]}
		if rules := f.rules(); rules != "" {
			about = append(about, rules)
		}
		if c.Note = strings.Join(about, "; ") + "."; f.Example != "" {
			c.Note += "\nSuch as: " + f.Example
		}
		columns = append(columns, c)
	}
	for _, name := range only {
		if !slices.ContainsFunc(columns, func(c blankColumn) bool { return c.field.Field == name || c.field.name() == name }) {
			remedy := "“evenledger fields” lists those it takes."
			if near := words.Nearest(name, names); near != "" {
				remedy = fmt.Sprintf("Did you mean “%s”?", near)
			}
			return nil, wrong(fmt.Sprintf("the system takes no field “%s”", name), remedy)
		}
	}
	if len(only) > 0 {
		slices.SortStableFunc(columns, func(x, y blankColumn) int {
			at := func(c blankColumn) int {
				return max(slices.Index(only, c.field.Field), slices.Index(only, c.field.name()))
			}
			return at(x) - at(y)
		})
	}
	return columns, nil
}

func (a *app) blank(target workspace.System, schema *account.Schema, out string, only []string, all bool, kinds []string) error {
	columns, err := blankColumns(schema, only, all)
	if err != nil {
		return err
	}
	left := leftOutOf(schema, columns, kinds)
	if all {
		left = leftOutOf(schema, columns, nil)
		for _, kind := range kinds {
			c := blankColumn{BlankColumn: sheet.BlankColumn{Heading: words.Title(kind), Note: "Names or ids, with “;” between several; of a course also with the role in brackets behind it."}}
			c.field.Label, c.field.Kind = kind+" the person gets", account.List
			columns = append(columns, c)
		}
	}
	var required []string
	for _, c := range columns {
		if c.Required {
			required = append(required, c.Heading)
		}
	}
	_, err = writeWhole(out, func(file *os.File) (int, error) {
		if sheet.IsWorkbook(out) {
			return 0, sheet.WriteBlank(file, workbookBlank(columns))
		}
		return 0, a.textBlank(file, out, target, columns, required)
	})
	if err != nil {
		return err
	}
	if a.json {
		headings := make([]string, len(columns))
		for i, c := range columns {
			headings[i] = c.Heading
		}
		return a.writeJSON(map[string]any{"file": out, "system": target.Name, "headings": headings, "required": required, "note": left})
	}
	page := a.page()
	page.Line("%s: a blank for %s with %d columns.", out, target.Name, len(columns))
	if len(required) > 0 {
		page.Line("Each row must have: %s.", strings.Join(required, ", "))
	}
	if left != "" && len(only) == 0 {
		page.Text(page.Dim, left)
	}
	page.Next("evenledger check " + quoted(out) + " --system " + target.Name + "    # once it is filled in")
	return page.Err()
}

func workbookBlank(columns []blankColumn) sheet.Blank {
	b := sheet.Blank{Notes: [][]string{{"Column", "Must be there", "Kind", "Example", "Values to choose from", "What it is"}}}
	for _, c := range columns {
		b.Columns = append(b.Columns, c.BlankColumn)
		must := ""
		if c.Required {
			must = "yes"
		}
		b.Notes = append(b.Notes, []string{c.Heading, must, c.field.Kind.InWords(), c.field.Example, strings.Join(c.Allowed, ", "), strings.Trim(c.field.Label+", "+c.field.rules(), ", ")})
	}
	return b
}

// textBlank writes a blank without tabs: the notes stand above the headings,
// where they are passed over when it is handed back in.
func (a *app) textBlank(file *os.File, out string, target workspace.System, columns []blankColumn, required []string) error {
	w, err := sheetWriter(file, out)(sheet.Form{})
	if err != nil {
		return err
	}
	headings := make([]string, len(columns))
	about := make([]string, len(columns))
	for i, c := range columns {
		headings[i] = c.Heading
		about[i] = c.Heading + " is " + c.field.Kind.InWords()
		if c.field.Example != "" {
			about[i] = c.Heading + " such as " + c.field.Example
		}
		if len(c.Allowed) > 0 {
			about[i] = c.Heading + " is one of " + strings.Join(c.Allowed, ", ")
		}
	}
	return errors.Join(
		w.Write([]string{fmt.Sprintf("A blank for %s. Fill in one row a person below the headings, and leave those as they are.", target.Name)}),
		w.Write([]string{"Must be there: " + strings.Join(required, ", ")}),
		w.Write([]string{"Values: " + strings.Join(about, "; ")}),
		w.Write(headings), w.Close())
}
