package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/ledger"
	"evenledger/internal/report"
	"evenledger/internal/words"
)

// one is the check that a command got its one argument.
func one(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) == 0:
			return wrong(fmt.Sprintf("%s needs %s", cmd.CommandPath(), what), fmt.Sprintf("See “%s --help”.", cmd.CommandPath()))
		case len(args) > 1:
			return wrong(fmt.Sprintf("%s takes one argument, %s; “%s” is too many", cmd.CommandPath(), what, args[1]), "If a name has spaces in it, put it in quotes.")
		}
		return nil
	}
}

func batchNumber(text string) (int, error) {
	id, err := strconv.Atoi(text)
	if err != nil || id < 1 {
		return 0, wrong(fmt.Sprintf("“%s” is not a batch's number", text), "“evenledger batches” lists them.")
	}
	return id, nil
}

func (a *app) showCommand() *cobra.Command {
	var outcomes []string
	var rows []int
	cmd := &cobra.Command{
		Use:     "show BATCH",
		GroupID: "look",
		Short:   "Tell what became of each row of a batch",
		Long: `Without flags: the account of the batch, its findings, its first and last entries.
With --outcome or --row: those entries in full, with before and after of each field
and every request that was sent.`,
		Example: `  evenledger show 17
  evenledger show 17 --outcome failed,refused
  evenledger show 17 --row 4`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := batchNumber(args[0])
			if err != nil {
				return err
			}
			filter := ledger.Filter{Rows: rows}
			for _, word := range outcomes {
				outcome, err := parseOutcome(word)
				if err != nil {
					return err
				}
				filter.Outcomes = append(filter.Outcomes, outcome)
			}
			return a.show(cmd.Context(), id, filter)
		},
	}
	cmd.Flags().StringSliceVar(&outcomes, "outcome", nil, "only entries of these `OUTCOMES`, such as failed,refused")
	cmd.Flags().IntSliceVar(&rows, "row", nil, "only these `ROWS` of the sheet")
	return cmd
}

func parseOutcome(word string) (account.Outcome, error) {
	var names []string
	for _, outcome := range account.Outcomes() {
		if string(outcome) == word {
			return outcome, nil
		}
		names = append(names, string(outcome))
	}
	remedy := "They are " + strings.Join(names, ", ") + "."
	if near := words.Nearest(word, names); near != "" {
		remedy = fmt.Sprintf("Did you mean “%s”?", near)
	}
	return "", wrong(fmt.Sprintf("“%s” is not an outcome", word), remedy)
}

func (a *app) show(ctx context.Context, id int, filter ledger.Filter) (err error) {
	_, l, err := a.openLedger(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	b, err := l.Batch(ctx, id)
	if err != nil {
		return err
	}
	counts, _, err := l.Counts(ctx, id)
	if err != nil {
		return err
	}
	if a.json {
		return report.WriteBatch(a.out, report.NewHead(b, counts), l.Entries(ctx, id, filter))
	}
	page := a.page()
	if len(filter.Outcomes)+len(filter.Rows) == 0 {
		if _, _, err := a.summary(ctx, page, l, b, nil, nil); err != nil {
			return err
		}
		page.Next(nextAfter(b, counts)...)
		a.exit = exitDone // showing was done, whatever became of the rows
		return page.Err()
	}
	page.Title(b)
	filter.Cells = true
	found := 0
	for e, err := range l.Entries(ctx, id, filter) {
		if err != nil {
			return err
		}
		page.Entry(e, b.Headings)
		steps, err := l.Steps(ctx, id, e.Row)
		if err != nil {
			return err
		}
		for _, s := range steps {
			line := fmt.Sprintf("%s  %s sent", s.Sent.Local().Format("15:04:05"), e.Intent)
			if !s.Ended.IsZero() {
				line += fmt.Sprintf(", settled %s: %s", s.Ended.Local().Format("15:04:05"), s.Result)
			}
			page.Line("    %s", page.Dim(line))
		}
		found++
	}
	if found == 0 {
		page.Line("")
		page.Line("  No entry of batch %d is like that.", id)
	}
	return page.Err()
}

func (a *app) batchesCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "batches",
		GroupID: "look",
		Short:   "List every batch so far, newest first",
		Example: "  evenledger batches\n  evenledger batches --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			ctx := cmd.Context()
			_, l, err := a.openLedger(ctx)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			all, err := l.Batches(ctx)
			if err != nil {
				return err
			}
			heads := make([]report.Head, len(all))
			for i := range all {
				counts, _, err := l.Counts(ctx, all[i].ID)
				if err != nil {
					return err
				}
				heads[i] = report.NewHead(&all[i], counts)
			}
			if a.json {
				return a.writeJSON(map[string]any{"batches": heads})
			}
			page := a.page()
			if len(all) == 0 {
				page.Line("No batch has been drafted in this workspace yet.")
				page.Next("evenledger draft SHEET -b BRIEF")
				return page.Err()
			}
			page.Line("%s", page.Dim(fmt.Sprintf("%5s  %-8s %-17s  %s  %s  %s  %7s %7s %7s %7s", "batch", "state", "drafted", report.Pad("by", 10), report.Pad("sheet", 24), report.Pad("system", 12), "rows", "done", "waiting", "to fix")))
			for i, h := range heads {
				bad := h.Outcomes["refused"] + h.Outcomes["failed"]
				page.Line("%5d  %-8s %-17s  %s  %s  %s  %7s %7s %7s %s", h.Batch, string(h.State), all[i].Made.Local().Format("2 Jan 2006 15:04"),
					report.Pad(report.Clip(h.By, 10), 10), report.Pad(report.Clip(h.Sheet, 24), 24), report.Pad(h.System, 12),
					report.Number(h.Rows), report.Number(h.Rows-bad-h.Outcomes["waiting"]), report.Number(h.Outcomes["waiting"]), badCount(page, bad))
			}
			page.Next(fmt.Sprintf("evenledger show %d", heads[0].Batch))
			return page.Err()
		},
	}
}

func badCount(page *report.Page, n int) report.Styled {
	text := fmt.Sprintf("%7s", report.Number(n))
	if n == 0 {
		return report.Styled(text)
	}
	return page.Level(account.Error, text)
}

func (a *app) fixesCommand() *cobra.Command {
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "fixes BATCH -o SHEET",
		GroupID: "look",
		Short:   "Write the refused and failed rows, with the reasons, to correct and hand back in",
		Long: `Writes a sheet with the rows that were refused or failed, exactly as they came in,
and at the right of each the reasons. Correct the cells and draft the sheet again
with the same brief: the two columns that were added are passed over.`,
		Example: `  evenledger fixes 17 -o again.csv
  evenledger draft again.csv -b starters`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := batchNumber(args[0])
			if err != nil {
				return err
			}
			if out == "" {
				return wrong("say which file to write", fmt.Sprintf("For example: evenledger fixes %d -o again.csv", id))
			}
			if exists(out) && !overwrite {
				return wrong(fmt.Sprintf("%s exists already, and may hold corrections", out), "Name another file, or give --overwrite.")
			}
			return a.fixes(cmd.Context(), id, out)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

func (a *app) fixes(ctx context.Context, id int, out string) (err error) {
	_, l, err := a.openLedger(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	b, err := l.Batch(ctx, id)
	if err != nil {
		return err
	}
	bad := ledger.Filter{Outcomes: []account.Outcome{account.Refused, account.Failed}, Cells: true}
	counts, _, err := l.Counts(ctx, id)
	if err != nil {
		return err
	}
	rows := 0
	if counts[account.Refused]+counts[account.Failed] > 0 {
		if rows, err = writeWhole(out, func(file *os.File) (int, error) { return report.WriteFixes(file, b, l.Entries(ctx, id, bad)) }); err != nil {
			return err
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"batch": id, "file": out, "rows": rows})
	}
	page := a.page()
	if rows == 0 {
		page.Line("No row of batch %d was refused or failed, so no sheet was written.", id)
		return page.Err()
	}
	page.Line("%s: %d %s to correct, with the reasons at the right.", out, rows, plural(rows, "row", "rows"))
	draft := "evenledger draft " + out
	if b.Brief != "" {
		draft += " -b " + b.Brief
	}
	page.Next(draft)
	return page.Err()
}

func plural(n int, single, many string) string {
	if n == 1 {
		return single
	}
	return many
}

// writeWhole writes a file readable by its owner alone, whole or not at all.
func writeWhole(path string, write func(*os.File) (int, error)) (n int, err error) {
	file, err := os.CreateTemp(filepath.Dir(path), ".evenledger-*")
	if err != nil {
		return 0, err
	}
	n, err = write(file)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return n, errors.Join(err, os.Remove(file.Name()))
	}
	return n, nil
}

func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "explain [CODE]",
		GroupID: "look",
		Short:   "Say what a finding's code means, and what to do about it",
		Example: "  evenledger explain same-value\n  evenledger explain              every code",
		Args:    cobra.MaximumNArgs(1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return codeNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			list := account.Codes()
			if len(args) == 1 {
				code, ok := account.Explain(args[0])
				if !ok {
					remedy := "“evenledger explain” lists them."
					if near := words.Nearest(args[0], codeNames()); near != "" {
						remedy = fmt.Sprintf("Did you mean “%s”?", near)
					}
					return wrong(fmt.Sprintf("there is no code “%s”", args[0]), remedy)
				}
				list = []account.Code{code}
			}
			if a.json {
				return a.writeJSON(map[string]any{"codes": list})
			}
			page := a.page()
			for _, code := range list {
				page.Line("%s", page.Bold(code.Code))
				page.Line("    %s", code.Meaning)
				page.Line("    %s", page.Dim("→ "+code.Remedy))
			}
			return page.Err()
		},
	}
}

func codeNames() []string {
	var names []string
	for _, code := range account.Codes() {
		names = append(names, code.Code)
	}
	return names
}
