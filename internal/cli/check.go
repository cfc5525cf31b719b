package cli

import (
	"context"
	"iter"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/check"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

type sheetFlags struct {
	brief, system string
}

func (f *sheetFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().StringVarP(&f.brief, "brief", "b", "", "the brief: its name in briefs/, or a file")
	cmd.Flags().StringVar(&f.system, "system", "", "the system, if the brief doesn't say or there is none")
	for flag, complete := range map[string]cobra.CompletionFunc{"brief": a.completeBriefs, "system": a.completeSystems} {
		if err := cmd.RegisterFlagCompletionFunc(flag, complete); err != nil {
			panic(err) // the flag was added just above
		}
	}
}

func (a *app) checkCommand() *cobra.Command {
	var flags sheetFlags
	var offline bool
	cmd := &cobra.Command{
		Use:     "check SHEET",
		GroupID: "prepare",
		Short:   "Tell every problem of a sheet, at its row and column; change nothing",
		Long: `Reads the whole sheet and tells every problem at once, each at its row and column
and with what to do about it. Nothing is changed, here or in the system; the
system is only asked which fields it takes.

Without a brief, recognised headings map themselves.`,
		Example: `  evenledger check starters.csv -b starters
  evenledger check starters.csv --offline        without asking the system
  evenledger check starters.csv -b starters --json`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			j, err := a.open(cmd.Context(), args[0], flags.brief, flags.system, offline)
			if err != nil {
				return err
			}
			defer j.sheet.Close()
			return a.check(cmd.Context(), j, args[0], flags.brief)
		},
	}
	flags.add(a, cmd)
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the system which fields it takes")
	return cmd
}

// tally counts rows while a sheet is checked. A row can turn out to be refused
// after it was counted, when a later one has the same key.
type tally struct {
	rows, aside, refused int
	isRefused            map[int]bool
}

func (t *tally) add(w *mapping.Wanted) {
	t.rows++
	switch {
	case w.Aside:
		t.aside++
	case w.Refused():
		t.refuse(w.Row)
	}
}

func (t *tally) refuse(row int) {
	if !t.isRefused[row] {
		t.isRefused[row] = true
		t.refused++
	}
}

// findings checks the rows and yields each finding.
func (t *tally) findings(ctx context.Context, checker *check.Checker, s *sheet.Sheet, tell func(int)) iter.Seq2[account.Finding, error] {
	return func(yield func(account.Finding, error) bool) {
		for checked, err := range checker.Rows(ctx, s.Rows()) {
			if err != nil {
				yield(account.Finding{}, err)
				return
			}
			t.add(checked.Wanted)
			for _, f := range checked.Earlier {
				t.refuse(f.Row)
				if !yield(f, nil) {
					return
				}
			}
			for _, f := range checked.Wanted.Findings {
				if !yield(f, nil) {
					return
				}
			}
			tell(t.rows)
		}
	}
}

func (a *app) check(ctx context.Context, j *job, path, briefName string) error {
	bar := a.progress()
	t := &tally{isRefused: map[int]bool{}}
	found := t.findings(ctx, check.New(j.mapper, j.schema), j.sheet, func(rows int) { bar.stageDone("checked", rows) })
	if a.json {
		return a.checkJSON(j, t, found)
	}
	causes := &report.Causes{}
	for _, f := range j.findings {
		causes.Add(f)
	}
	for f, err := range found {
		if err != nil {
			bar.end()
			return err
		}
		causes.Add(f)
	}
	bar.end()
	page := a.page()
	page.Line("%s", about(j.sheet.Info()))
	if !j.named {
		readAs(page, j)
	}
	page.Account(t.rows, []report.Side{{Label: "Fine", N: t.rows - t.aside - t.refused}, {Label: "Set aside", N: t.aside}, {Label: "Refused", N: t.refused}})
	page.Findings(causes)
	draft := "evenledger draft " + path
	if briefName != "" {
		draft += " -b " + briefName
	}
	page.Next(draft)
	a.exit = rowsExit(t.refused)
	return page.Err()
}

func rowsExit(bad int) int {
	if bad > 0 {
		return exitRows
	}
	return exitDone
}

// checkJSON streams the findings; the counts are known only after them, so they
// stand at the end of the document.
func (a *app) checkJSON(j *job, t *tally, found iter.Seq2[account.Finding, error]) error {
	info := j.sheet.Info()
	head := map[string]any{"sheet": info, "columns": j.mapper.Columns()}
	all := func(yield func(account.Finding, error) bool) {
		for _, f := range j.findings {
			if !yield(f, nil) {
				return
			}
		}
		for f, err := range found {
			if !yield(f, err) {
				return
			}
		}
	}
	tail := func() any {
		return map[string]any{"rows": t.rows, "fine": t.rows - t.aside - t.refused, "aside": t.aside, "refused": t.refused, "encoding": j.sheet.Info().Encoding}
	}
	err := report.WriteJSON(a.out, head, "findings", all, tail)
	a.exit = rowsExit(t.refused)
	return err
}
