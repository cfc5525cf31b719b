package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

func (a *app) blankCommand() *cobra.Command {
	var out string
	var only []string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "blank [SYSTEM] -o FILE",
		GroupID: "prepare",
		Short:   "Make an empty sheet for a system, for colleagues to fill in",
		Long: `Writes an empty sheet with a heading for each field the system takes, in plain
words. A workbook has lists to choose from, notes on each column, and cells that
keep zeros in front; CSV has the notes above the headings. What is filled in goes
back in with no brief.`,
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
			return a.blank(target, schema, out, only)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, .xlsx, .csv or .tsv")
	cmd.Flags().StringSliceVar(&only, "fields", nil, "only these `FIELDS`, in this order")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

// blankColumn is a column of a blank with what is said about it.
type blankColumn struct {
	sheet.BlankColumn
	field toldField
}

// blankColumns are the columns for the fields a system takes and a person can be
// expected to know; with only, those and in that order.
func blankColumns(schema *account.Schema, only []string) ([]blankColumn, error) {
	var columns []blankColumn
	var names []string
	for _, f := range toldFields(schema) {
		heading := f.Alias
		if known, ok := account.FieldNamed(f.Field); ok {
			heading = known.Headings[0]
		}
		name := f.Field
		if f.Alias != "" {
			name = f.Alias
		}
		if heading == "" && slices.Contains(only, f.Field) {
			heading = f.Field
		}
		if f.ReadOnly || heading == "" {
			continue
		}
		names = append(names, name)
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
		if !slices.ContainsFunc(columns, func(c blankColumn) bool { return c.field.Field == name || c.field.Alias == name }) {
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
				return max(slices.Index(only, c.field.Field), slices.Index(only, c.field.Alias))
			}
			return at(x) - at(y)
		})
	}
	return columns, nil
}

func (a *app) blank(target workspace.System, schema *account.Schema, out string, only []string) error {
	columns, err := blankColumns(schema, only)
	if err != nil {
		return err
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
		return a.writeJSON(map[string]any{"file": out, "system": target.Name, "headings": headings, "required": required})
	}
	page := a.page()
	page.Line("%s: a blank for %s with %d columns.", out, target.Name, len(columns))
	if len(required) > 0 {
		page.Line("Each row must have: %s.", strings.Join(required, ", "))
	}
	page.Next("evenledger check " + quoted(out) + " --system " + target.Name + "      once it is filled in")
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
