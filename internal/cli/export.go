package cli

import (
	"context"
	"errors"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/export"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/workspace"
)

func (a *front) exportCommand() *cobra.Command {
	var out, only string
	var fields, memberships []string
	var each string
	var overwrite, all bool
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
			if each != "" && len(memberships) > 0 {
				return wrong("--each and --memberships cannot both be given", "Keep one of them.")
			}
			about, err := client.Describe(cmd.Context())
			if err != nil {
				return err
			}
			if each != "" && len(fields) == 0 {
				fields = []string{about.Naming}
			}
			columns, err := export.Columns(about.Schema, fields, all)
			if err != nil {
				return err
			}
			e, left, kinds := &export.Export{System: client, Columns: columns, Kinds: memberships, Each: each}, "", namedKinds(about)
			switch {
			case all && each == "":
				e.Kinds, left = kinds, export.LeftOut(about.Schema, columns, nil)
			case len(fields) == 0:
				left = export.LeftOut(about.Schema, columns, slices.DeleteFunc(kinds, func(kind string) bool { return slices.Contains(memberships, kind) }))
			}
			if err := e.Only(about.Schema, only, a.Today()); err != nil {
				return err
			}
			if err := e.Register(cmd.Context(), about); err != nil {
				return err
			}
			return a.export(cmd.Context(), e, target, out, left)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, "+sheet.Formats)
	cmd.Flags().StringSliceVar(&fields, "fields", nil, "only these `FIELDS`, in this order")
	completeFlag(cmd, "fields", listOf(fieldNames()...))
	cmd.Flags().StringSliceVar(&memberships, "memberships", nil, "also these `KINDS` of memberships, such as groups,courses")
	cmd.Flags().StringVar(&each, "each", "", "a row for each membership of this `KIND`")
	completeFlag(cmd, "memberships", listOf(brief.Kinds()...))
	completeFlag(cmd, "each", oneOf(brief.Kinds()...))
	cmd.Flags().BoolVar(&all, "all", false, "also the system's own fields, and all memberships")
	cmd.Flags().StringVar(&only, "only", "", "only accounts for which this `EXPRESSION` holds")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	ofRows.tell(cmd, "only", "each")
	ofWriting.tell(cmd, "output", "overwrite", "fields", "memberships", "all")
	return cmd
}

func (a *front) export(ctx context.Context, e *export.Export, target workspace.System, out, left string) error {
	bar := a.progress()
	rows, err := app.WriteWhole(out, func(file *os.File) (rows int, err error) {
		w, err := app.SheetWriter(file, out)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, w.Close()) }()
		return e.Write(ctx, w, func(looked int) { bar.stageDone("looked at accounts", looked) })
	})
	bar.end()
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"system": target.Name, "file": out, "accounts": e.Looked, "rows": rows, "headings": e.Headings(), "note": left})
	}
	page := a.page()
	if e.Each != "" {
		page.Line("%s: %s %s of %s, a row each.", out, report.Number(rows), e.Each, target.Name)
		page.Next("evenledger draft " + report.Quoted(out) + " --system " + target.Name)
		return page.Err()
	}
	page.Line("%s: %s of the %s %s of %s, with %d columns.", out, report.Number(rows), report.Number(e.Looked), report.Plural(e.Looked, "account", "accounts"), target.Name, len(e.Headings()))
	page.Line("Edit it and hand it back in; a cell that you empty leaves its field as it is. The last column says")
	page.Line("which account a row is, whatever else of it you change.")
	if left != "" {
		page.Text(page.Dim, left)
	}
	page.Next("evenledger draft " + report.Quoted(out) + " --system " + target.Name)
	return page.Err()
}
