package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/inquiry"
	"evenledger/internal/report"
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
			page := isPage(out)
			if !page && !sheet.CanWrite(out) {
				return wrong(fmt.Sprintf("%s is of no format that can be written", out), "Let its name end in .html, "+sheet.Formats+".")
			}
			if exists(out) && !overwrite {
				return wrong(out+" exists already", "Name another file, or give --overwrite.")
			}
			return a.onBatches(cmd.Context(), args[0], true, func(_ *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				if len(batches) > 1 {
					return a.reportSet(cmd.Context(), l, batches, out, page)
				}
				return a.report(cmd.Context(), l, batches[0], out, page)
			})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, .html, "+sheet.Formats)
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

func isPage(path string) bool {
	ending := strings.ToLower(filepath.Ext(path))
	return ending == ".html" || ending == ".htm"
}

func (a *front) report(ctx context.Context, l store.Store, b *batch.Batch, out string, page bool) error {
	if b.Path != "" && sheet.SameFile(b.Path, out) {
		return wrong(out+" is the sheet that the batch was made of", "Name another file.")
	}
	rows, err := app.WriteWhole(out, func(file *os.File) (int, error) {
		if !page {
			rows, plain, err := app.WriteOutcomes(ctx, l, b, file, out)
			if plain != "" {
				a.remark("%s cannot be given back as it was (%s): this is a plain workbook of its rows.", b.Sheet, plain)
			}
			return rows, err
		}
		return report.PageOf(ctx, l, b, file)
	})
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"batch": b.ID, "file": out, "rows": rows})
	}
	answer := a.page()
	answer.Line("%s: what became of %s %s of batch %d.", out, report.Number(rows), report.Plural(rows, "row", "rows"), b.ID)
	answer.Next(fmt.Sprintf("evenledger show %d", b.ID))
	return answer.Err()
}

// reportSet writes what became of every row of one sheet in every system of a set.
func (a *front) reportSet(ctx context.Context, l store.Store, batches []*batch.Batch, out string, page bool) error {
	s, err := report.ReadSet(ctx, l, batches)
	if err != nil {
		return err
	}
	if !s.OneSheet() {
		return wrong("these batches are not of one sheet", "Write a report of each.")
	}
	causes, err := s.Causes(ctx, l, nil)
	if err != nil {
		return err
	}
	rows, err := app.WriteWhole(out, func(file *os.File) (int, error) {
		if !page {
			return report.WriteSetOutcomes(app.SheetWriter(file, out), s, s.Rows(ctx, l, store.Filter{Cells: true}))
		}
		buffered := bufio.NewWriter(file)
		err := report.WriteSetPage(buffered, s, causes, s.Rows(ctx, l, store.Filter{}))
		return batches[0].Rows, errors.Join(err, buffered.Flush())
	})
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"set": s.Name, "file": out, "rows": rows})
	}
	answer := a.page()
	answer.Line("%s: what became of %s %s in %d systems.", out, report.Number(rows), report.Plural(rows, "row", "rows"), len(batches))
	answer.Next("evenledger show " + s.Numbers())
	return answer.Err()
}
