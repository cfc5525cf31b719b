package cli

import (
	"context"
	"errors"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/export"
	"evenledger/internal/sheet"
	"evenledger/internal/workspace"
)

func (a *front) exportCommand() *cobra.Command {
	var w exportWish
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
			return a.exportAs(cmd.Context(), args, w)
		},
	}
	cmd.Flags().StringVarP(&w.out, "output", "o", "", "the `FILE` to write, "+sheet.Formats)
	cmd.Flags().StringSliceVar(&w.fields, "fields", nil, "only these `FIELDS`, in this order")
	completeFlag(cmd, "fields", listOf(fieldNames()...))
	cmd.Flags().StringSliceVar(&w.memberships, "memberships", nil, "also these `KINDS` of memberships, such as groups,courses")
	cmd.Flags().StringVar(&w.each, "each", "", "a row for each membership of this `KIND`")
	completeFlag(cmd, "memberships", listOf(brief.Kinds()...))
	completeFlag(cmd, "each", oneOf(brief.Kinds()...))
	cmd.Flags().BoolVar(&w.all, "all", false, "also the system's own fields, and all memberships")
	cmd.Flags().StringVar(&w.only, "only", "", "only accounts for which this `EXPRESSION` holds")
	cmd.Flags().BoolVar(&w.overwrite, "overwrite", false, "write over a file that exists")
	ofRows.tell(cmd, "only", "each")
	ofWriting.tell(cmd, "output", "overwrite", "fields", "memberships", "all")
	return cmd
}

// An exportWish is what was asked of an export.
type exportWish struct {
	out, only, each     string
	fields, memberships []string
	overwrite, all      bool
}

// exportAs writes the accounts of a system as they were asked for.
func (a *front) exportAs(ctx context.Context, args []string, w exportWish) error {
	if w.out == "" {
		return wrong("say which file to write", "For example: evenledger export -o accounts.xlsx")
	}
	if err := app.MayWrite(w.out, w.overwrite, "and may have been edited"); err != nil {
		return err
	}
	target, client, err := a.target(args)
	if err != nil {
		return err
	}
	if w.each != "" && len(w.memberships) > 0 {
		return wrong("--each and --memberships cannot both be given", "Keep one of them.")
	}
	about, err := client.Describe(ctx)
	if err != nil {
		return err
	}
	if w.each != "" && len(w.fields) == 0 {
		w.fields = []string{about.Naming}
	}
	columns, err := export.Columns(about.Schema, w.fields, w.all)
	if err != nil {
		return err
	}
	e, left, kinds := &export.Export{System: client, Columns: columns, Kinds: w.memberships, Each: w.each}, "", app.NamedKinds(about)
	switch {
	case w.all && w.each == "":
		e.Kinds, left = kinds, export.LeftOut(about.Schema, columns, nil)
	case len(w.fields) == 0:
		left = export.LeftOut(about.Schema, columns, slices.DeleteFunc(kinds, func(kind string) bool { return slices.Contains(w.memberships, kind) }))
	}
	if err := e.Only(about.Schema, w.only, a.Today()); err != nil {
		return err
	}
	if err := e.Register(ctx, about); err != nil {
		return err
	}
	return a.export(ctx, e, target, w.out, left)
}

func (a *front) export(ctx context.Context, e *export.Export, target workspace.System, out, left string) error {
	bar := a.progress()
	rows, err := app.WriteWhole(out, func(file *os.File) (rows int, err error) {
		w, err := app.SheetWriter(file, out)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, w.Close()) }()
		return e.Write(ctx, w, func(looked int) { bar.Stage("looked at accounts", looked) })
	})
	bar.End()
	if err != nil {
		return err
	}
	return a.tell(ctx, answer.Exported{System: target.Name, File: out, Rows: rows, Export: e, Left: left})
}
