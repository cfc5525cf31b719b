package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
)

func (a *front) briefTryCommand() *cobra.Command {
	var flags sheetFlags
	var row int
	var offline bool
	cmd := &cobra.Command{
		Use:   "try SHEET",
		Short: "Show what becomes of one row, stage by stage",
		Long: `Takes one row of a sheet through a brief and shows each stage: its cells, the value
of each field and where it came from, what is wrong, and the account that is
wanted. The rows above count, as two may not share what must be unique.`,
		Example: `  evenledger brief try starters.xlsx -b starters --row 7
  evenledger brief try starters.xlsx --row 7 --offline      without a brief`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if row < 1 {
				return wrong("say which row", "For example: --row 7")
			}
			a.Offline = offline
			members, _, err := a.OpenSet(cmd.Context(), args[0], flags.Request)
			if err != nil {
				return err
			}
			defer app.CloseSet(members)
			var systems []string
			for _, m := range members {
				systems = append(systems, m.System)
			}
			return a.several("systems", systems, func(i int) error {
				if members[i].Err != nil {
					return members[i].Err
				}
				exit := a.exit // of the worst
				err := a.briefTry(cmd.Context(), members[i].Job, args[0], flags, row)
				a.exit = max(a.exit, exit)
				return err
			})
		},
	}
	cmd.Flags().StringVarP(&flags.Brief, "brief", "b", "", "the `BRIEF`: its name in briefs/, or a file")
	cmd.Flags().StringVar(&flags.System, "system", "", "the `SYSTEM`, if the brief doesn't say or there is none")
	cmd.Flags().StringVar(&flags.Tab, "tab", "", "the `TAB` of a workbook")
	cmd.Flags().StringVar(&flags.Encoding, "encoding", "", "the `NAME` of the encoding of a text file")
	cmd.Flags().IntVar(&row, "row", 0, "the `ROW`, as a spreadsheet program numbers it")
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the system which fields it takes")
	completeFlag(cmd, "brief", a.completeBriefs)
	completeFlag(cmd, "system", a.completeTargets)
	return cmd
}

func (a *front) briefTry(ctx context.Context, j *app.Job, path string, flags sheetFlags, number int) error {
	at, err := j.Row(ctx, number)
	if err != nil {
		return err
	}
	if at == nil {
		return wrong(fmt.Sprintf("%s has no row %d, or it is blank", path, number), "Rows are numbered as in a spreadsheet program; the headings are a row too.")
	}
	t := answer.NewTry(j, path, number, at, flags.flags())
	a.exit = a.rowsExit(map[string]int{"refused": 1}[t.Came()])
	return a.tell(ctx, t)
}
