package cli

import (
	"context"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/sheet"
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
			blank, err := a.blank(cmd.Context(), args, named, only, all)
			if err != nil {
				return err
			}
			blank.File = out
			if err := blank.Write(); err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Blank(blank))
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

// blank is the blank that is asked for: a system's, or a brief's if one is named.
func (a *front) blank(ctx context.Context, args []string, named string, only []string, all bool) (app.Blank, error) {
	if named != "" {
		if len(args)+len(only) > 0 || all {
			return app.Blank{}, wrong("with -b the brief says which columns there are", "Leave the system, --fields and --all away.")
		}
		return a.BlankOfBrief(ctx, named)
	}
	target, client, err := a.target(args)
	if err != nil {
		return app.Blank{}, err
	}
	about, err := client.Describe(ctx)
	if err != nil {
		return app.Blank{}, err
	}
	blank, err := app.BlankOf(about, only, all)
	blank.System = target.Name
	return blank, err
}
