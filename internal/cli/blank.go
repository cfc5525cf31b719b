package cli

import (
	"context"
	"errors"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/export"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

func (a *front) blankCommand() *cobra.Command {
	var out string
	var only []string
	var overwrite, all bool
	var named string
	cmd := &cobra.Command{
		Use:     "blank [SYSTEM] -o FILE",
		GroupID: "prepare",
		Short:   "Make an empty sheet for a system, for colleagues to fill in",
		Long: `Writes an empty sheet with a heading for each field the system takes, in plain
words. A workbook has lists to choose from, notes on each column, and cells that
keep zeros in front; CSV has the notes above the headings. What is filled in goes
back in with no brief.

With -b BRIEF it is the sheet that this brief reads: its headings in its order, the words that
it understands to choose from, and what must be there.

With --all there is a column for each of the system's own fields too, and for groups,
courses, licences and roles.`,
		Example: `  evenledger blank crewdesk -o blank.xlsx
  evenledger blank crewdesk -o blank.csv --fields employeeNumber,givenName,familyName,userName
  evenledger blank -b starters -o starters-blank.xlsx`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeSystems,
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return wrong("say which file to write", "For example: evenledger blank crewdesk -o blank.xlsx")
			}
			if err := app.MayWrite(out, overwrite, "and may be filled in"); err != nil {
				return err
			}
			if sheet.TraitsOf(out).Named {
				return wrong(out+" would have no headings, and a blank is nothing but", "Let its name end in .xlsx, .csv or .tsv.")
			}
			if named != "" {
				if len(args)+len(only) > 0 || all {
					return wrong("with -b the brief says which columns there are", "Leave the system, --fields and --all away.")
				}
				return a.blankOf(cmd.Context(), named, out)
			}
			target, client, err := a.target(args)
			if err != nil {
				return err
			}
			about, err := client.Describe(cmd.Context())
			if err != nil {
				return err
			}
			return a.blank(cmd.Context(), target, about.Schema, out, only, all, namedKinds(about))
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, .xlsx, .csv or .tsv")
	cmd.Flags().StringVarP(&named, "brief", "b", "", "the sheet that this `BRIEF` reads")
	completeFlag(cmd, "brief", a.completeBriefs)
	cmd.Flags().StringSliceVar(&only, "fields", nil, "only these `FIELDS`, in this order")
	completeFlag(cmd, "fields", listOf(fieldNames()...))
	cmd.Flags().BoolVar(&all, "all", false, "also the system's own fields, and memberships")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

// namedKinds are the kinds of things a system has that a brief can name.
func namedKinds(about *system.Description) (names []string) {
	for _, kind := range about.Kinds {
		if slices.Contains(brief.Kinds(), kind.Name) {
			names = append(names, kind.Name)
		}
	}
	return names
}

func (a *front) blank(ctx context.Context, target workspace.System, schema *account.Schema, out string, only []string, all bool, kinds []string) error {
	columns, err := export.Columns(schema, only, all)
	if err != nil {
		return err
	}
	left := export.LeftOut(schema, columns, kinds)
	if all {
		left = export.LeftOut(schema, columns, nil)
		for _, kind := range kinds {
			// What the system has of the same name in an account is what memberships give.
			columns = slices.DeleteFunc(columns, func(c export.Column) bool { return words.Key(c.Heading) == words.Key(kind) })
			c := export.Column{BlankColumn: sheet.BlankColumn{Heading: words.Title(kind), Note: "Names or ids, with “;” between several; of a course also with the role in brackets behind it."}}
			c.Field.Label, c.Field.Kind = kind+" the person gets", account.List
			columns = append(columns, c)
		}
	}
	if len(only) > 0 {
		left = ""
	}
	return a.writeBlank(ctx, columns, out, target.Name, "", left)
}

// blankOf writes the sheet that a brief reads.
func (a *front) blankOf(ctx context.Context, named, out string) error {
	b, err := a.brief(named)
	if err != nil {
		return err
	}
	w, err := a.FindWorkspace()
	if err != nil {
		return err
	}
	target, client, err := a.target(systemsNamed(w, b.System)[:1]) // of a set the first says what it takes
	if err != nil {
		return err
	}
	about, err := client.Describe(ctx)
	if err != nil {
		return err
	}
	things := map[string][]account.Thing{}
	for _, kind := range about.Kinds {
		if !b.Names(kind.Name) {
			continue
		}
		for t, err := range client.Things(ctx, kind.Name, false) {
			if err != nil {
				return err
			}
			things[kind.Name] = append(things[kind.Name], t)
		}
	}
	columns := export.OfBrief(b, about.Schema, func(kind string) []account.Thing { return things[kind] })
	return a.writeBlank(ctx, columns, out, target.Name, named, "")
}

// writeBlank writes a blank with columns for a system, or for a brief if one is named.
func (a *front) writeBlank(ctx context.Context, columns []export.Column, out, system, named, left string) error {
	who := system
	if named != "" {
		who = "the brief " + named
	}
	_, err := app.WriteWhole(out, func(file *os.File) (int, error) {
		if sheet.TraitsOf(out).Workbook {
			return 0, sheet.WriteBlank(file, export.Workbook(columns))
		}
		return 0, writeTextBlank(file, out, who, columns)
	})
	if err != nil {
		return err
	}
	return a.tell(ctx, answer.Blank{File: out, System: system, Brief: named, Columns: columns, Left: left})
}

// writeTextBlank writes a blank without tabs.
func writeTextBlank(file *os.File, out, who string, columns []export.Column) error {
	w, err := app.SheetWriter(file, out)(sheet.Form{})
	if err != nil {
		return err
	}
	for _, line := range export.Text(who, columns) {
		err = errors.Join(err, w.Write(line))
	}
	return errors.Join(err, w.Close())
}
