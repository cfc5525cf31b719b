package cli

import (
	"context"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

func (a *front) peekCommand() *cobra.Command {
	var flags sheetFlags
	var headingRow int
	cmd := &cobra.Command{
		Use:     "peek SHEET",
		GroupID: "prepare",
		Short:   "See what is in a sheet, and what each column would be",
		Long: `Tells a sheet's format and where its headings stand, and of each column which field
it would be, what kind of values it has, how many differ, and what looks wrong.
With --rows the rows are shown as they were read. What looks like a password is
never shown. “-” reads what is piped in.`,
		Example: `  evenledger peek starters.xlsx
  evenledger peek starters.xlsx --tab Crew
  evenledger peek starters.csv --rows 3-5
  cat feed.jsonl | evenledger peek -`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			selection, err := flags.Selects()
			if err != nil {
				return err
			}
			s, err := a.Look(cmd.Context(), args[0], flags.Request, headingRow)
			if err != nil {
				return err
			}
			defer s.Close()
			if !selection.All() {
				return a.peekRows(cmd.Context(), s, selection)
			}
			bar := a.progress()
			found, err := profile.Of(s.Info(), s.Rows(), func(rows int) { bar.Stage("looked at", rows) })
			bar.End()
			if err != nil {
				return err
			}
			if !s.Info().Read.Even() {
				a.exit = exitRows
			}
			return a.tell(cmd.Context(), answer.Peek{Path: args[0], Info: s.Info(), Found: found})
		},
	}
	flags.addRows(cmd)
	cmd.Flags().IntVar(&headingRow, "heading-row", 0, "the `ROW` of the headings, if it isn't found by looking")
	return cmd
}

// mostShown is how many rows are shown at most.
const mostShown = 1000

// peekRows shows rows as they were read.
func (a *front) peekRows(ctx context.Context, s *app.Looked, selection sheet.Selection) error {
	secret, err := s.Secrets()
	if err != nil {
		return err
	}
	shown := answer.Rows{Rows: []answer.Row{}, Selection: selection}
	for r, err := range selection.Of(s.Rows()) {
		if err != nil {
			return err
		}
		if r.Left {
			continue
		}
		if shown.Rows = append(shown.Rows, answer.NewRow(r, s.Info().Headings, secret)); len(shown.Rows) == mostShown {
			a.remark("Only the first %d of these rows are shown.", mostShown)
			break
		}
	}
	shown.Info = s.Info()
	return a.tell(ctx, shown)
}
