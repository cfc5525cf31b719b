package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
)

func (a *front) briefNewCommand() *cobra.Command {
	var flags sheetFlags
	first := &app.FirstBrief{}
	cmd := &cobra.Command{
		Use:   "new SHEET",
		Short: "Write a first brief for a sheet, guessed, with comments",
		Long: `Looks through a sheet and writes a first brief for it: its columns as fields, a
formula for the sign-in name if there is none, what finds an account, what is not
used, and what the system wants and the sheet lacks. Look at each line of it before
you use it: what was guessed says so.`,
		Example: `  evenledger brief new starters.xlsx --system crewdesk
  evenledger brief new feed.jsonl --name leavers
  evenledger brief new starters.csv -o -               only print it`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			w, err := a.FindWorkspace()
			if err != nil {
				return err
			}
			s, err := a.Look(cmd.Context(), args[0], flags.Request, 0)
			if err != nil {
				return err
			}
			defer s.Close()
			first.System = flags.System
			if err := first.Ready(w, s.Info()); err != nil {
				return err
			}
			bar := a.progress()
			err = a.Guess(cmd.Context(), w, s.Sheet, first, func(rows int) { bar.Stage("looked at", rows) })
			bar.End()
			if err == nil {
				err = first.Write()
			}
			if err != nil {
				return err
			}
			return a.guessed(cmd.Context(), answer.FirstBrief{FirstBrief: first, Sheet: args[0]})
		},
	}
	cmd.Flags().StringVar(&flags.System, "system", "", "the `SYSTEM` whose accounts are meant")
	completeFlag(cmd, "system", a.completeTargets)
	cmd.Flags().StringVar(&flags.Tab, "tab", "", "the `TAB` of a workbook")
	cmd.Flags().StringVar(&flags.Encoding, "encoding", "", "the `NAME` of the encoding of a text file")
	cmd.Flags().StringVar(&first.Name, "name", "", "the brief's `NAME`; without it that of the sheet")
	cmd.Flags().StringVarP(&first.Path, "output", "o", "", "the `FILE` to write; - prints it")
	cmd.Flags().BoolVar(&first.Overwrite, "overwrite", false, "write over a brief that exists")
	cmd.Flags().BoolVar(&first.Offline, "offline", false, "do not ask the system what it takes")
	return cmd
}

// guessed tells a first brief. One without a sure key is to be completed, which the exit code says.
func (a *front) guessed(ctx context.Context, f answer.FirstBrief) error {
	problem := f.Problem
	if f.Source.Keyless {
		a.exit, problem = exitRows, nil
	}
	if problem != nil && f.Path != app.OnlyShown {
		return wrong(problem.Error(), "It is in "+f.Path+".")
	}
	return errors.Join(a.tell(ctx, f), problem)
}
