package cli

import (
	"context"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/sheet"
)

func (a *front) exportCommand() *cobra.Command {
	var w app.ExportWish
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "export [SYSTEM] -o FILE",
		GroupID: "look",
		Short:   "Write a system's accounts to a sheet, to edit and hand back in",
		Long: `Writes the accounts of a system to a sheet, one a row, with headings in plain words.
Edit it and hand it back in with no brief: what differs is updated, and a cell you
emptied leaves the field as it is. Other accounts, such as managers, stand there by
their user names. The last column has the system's identifier of the account, by which
it is found when the sheet comes back; a row whose keys find nobody is refused then,
unless “draft --new create” says that there are new people in it.

With --memberships a column of each kind lists all of an account's groups, courses,
licences or roles, with role and section in brackets; handed back in, what was taken
out of the list is left. With --each there is a row for each membership of one kind.`,
		Example: `  evenledger export crewdesk -o accounts.xlsx
  evenledger export crewdesk -o deck.csv --only 'department == "Deck"'
  evenledger export crewdesk -o managers.jsonl --fields employeeNumber,userName,title
  evenledger export crewdesk -o groups.xlsx --memberships groups,licences
  evenledger export crewdesk -o all.xlsx --all
  evenledger export crewdesk -o enrolments.csv --each courses`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeSystems,
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			return a.export(cmd.Context(), args, out, overwrite, w)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, "+sheet.Formats)
	cmd.Flags().StringSliceVar(&w.Fields, "fields", nil, "only these `FIELDS`, in this order")
	completeFlag(cmd, "fields", listOf(fieldNames()...))
	cmd.Flags().StringSliceVar(&w.Memberships, "memberships", nil, "also these `KINDS` of memberships, such as groups,courses")
	cmd.Flags().StringVar(&w.Each, "each", "", "a row for each membership of this `KIND`")
	completeFlag(cmd, "memberships", listOf(brief.Kinds()...))
	completeFlag(cmd, "each", oneOf(brief.Kinds()...))
	cmd.Flags().BoolVar(&w.All, "all", false, "also the system's own fields, and all memberships")
	cmd.Flags().StringVar(&w.Only, "only", "", "only accounts for which this `EXPRESSION` holds")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	ofRows.tell(cmd, "only", "each")
	ofWriting.tell(cmd, "output", "overwrite", "fields", "memberships", "all")
	return cmd
}

// export writes the accounts of a system as they were asked for.
func (a *front) export(ctx context.Context, args []string, out string, overwrite bool, w app.ExportWish) error {
	if out == "" {
		return wrong("say which file to write", "For example: evenledger export -o accounts.xlsx")
	}
	if err := app.MayWrite(out, overwrite, "and may have been edited"); err != nil {
		return err
	}
	target, client, err := a.target(args)
	if err != nil {
		return err
	}
	bar := a.progress()
	done, err := a.Export(ctx, target, client, w, out, bar.Stage)
	bar.End()
	if err != nil {
		return err
	}
	return a.tell(ctx, answer.Exported(done))
}
