package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/inquiry"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) reportCommand() *cobra.Command {
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "report BATCH -o FILE | report SYSTEM QUESTION",
		GroupID: "look",
		Short:   "Write what became of every row of a batch, or answer a question about a system",
		Long: `With a batch, writes one page with the account of the batch, a chart of the outcomes, the findings
by cause and every entry with before and after: to keep, print or send. It needs
nothing else, and can be searched. With a name that ends in .xlsx, .csv or .jsonl it
writes the sheet as it came, each row with its outcome, the system's identifier of
its account, and the reasons.

With a system, answers a question about its people: managers, without-manager,
licences, groups, courses, roles, units, suspended, duplicates, or trials: the accounts
that batches made which were marked with --trial-run. With -o the answer is a sheet; where
it is about accounts, its last column says which, and it can be handed back in.`,
		Example: `  evenledger report 17 -o batch-17.html
  evenledger report 17 -o batch-17.xlsx
  evenledger report quays -o quays.html     the newest batches of a set, system beside system
  evenledger report crewdesk managers
  evenledger report crewdesk duplicates -o duplicates.csv`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return nil
			}
			return one("a batch's number, or a system and a question")(cmd, args)
		},
		ValidArgsFunction: a.completeReports,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return a.answerAbout(cmd.Context(), args[0], args[1], out, overwrite)
			}
			if w, err := a.FindWorkspace(); err == nil && !areBatches(args[0]) {
				if _, known := w.System(args[0]); known == nil {
					return wrong("say what you want to know of "+args[0], "One of: "+strings.Join(inquiry.Names(), ", ")+".")
				}
			}
			if out == "" {
				return wrong("say which file to write", fmt.Sprintf("For example: evenledger report %s -o batch-%s.html", args[0], args[0]))
			}
			if err := app.MayWritePage(out, overwrite, "and may be what somebody keeps"); err != nil {
				return err
			}
			return a.onBatches(cmd.Context(), args[0], true, func(_ *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				r, err := app.WriteReport(cmd.Context(), l, batches, out)
				if err != nil {
					return err
				}
				if r.Plain != "" {
					a.remark("%s cannot be given back as it was (%s): this is a plain workbook of its rows.", batches[0].Sheet, r.Plain)
				}
				return a.tell(cmd.Context(), answer.Report{Report: r})
			})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, .html, "+sheet.Formats)
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}
