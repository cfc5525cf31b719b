package cli

import (
	"context"
	"errors"
	"fmt"
	"iter"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

// sheetFlags say which sheet is meant and which of its rows.
type sheetFlags struct{ app.Request }

// flags writes the flags out again, for the command to type next.
func (f *sheetFlags) flags() string {
	text := ""
	for _, flag := range [][2]string{{" -b ", f.Brief}, {" --system ", f.System}, {" --tab ", f.Tab}, {" --encoding ", f.Encoding}, {" --rows ", f.Rows}, {" --only ", f.Only}, {" --new ", f.New}} {
		if flag[1] != "" {
			text += flag[0] + report.Quoted(flag[1])
		}
	}
	if f.Again {
		text += " --again"
	}
	if f.First > 0 {
		text += fmt.Sprintf(" --first %d", f.First)
	}
	return text
}

func (f *sheetFlags) add(a *front, cmd *cobra.Command) {
	cmd.Flags().StringVarP(&f.Brief, "brief", "b", "", "the `BRIEF`: its name in briefs/, or a file")
	cmd.Flags().StringVar(&f.System, "system", "", "the `SYSTEM`, or a set of systems, if the brief doesn't say or there is none")
	f.addRows(cmd)
	cmd.Flags().BoolVar(&f.Again, "again", false, "take what a feed brings though it was taken before")
	cmd.Flags().StringVar(&f.New, "new", "", "what is done with rows that find no account, in a `WORD`: create, skip or refuse; else as the brief says")
	cmd.Flags().StringVar(&f.Only, "only", "", "take only rows for which this `EXPRESSION` holds, as with the brief's “only”")
	ofSheet.tell(cmd, "brief", "system", "again")
	ofRows.tell(cmd, "only")
	ofDeeds.tell(cmd, "new")
	completeFlag(cmd, "brief", a.completeBriefs)
	completeFlag(cmd, "system", a.completeTargets)
	completeFlag(cmd, "new", oneOf(string(brief.Create), string(brief.Skip), string(brief.Refuse)))
	cmd.ValidArgsFunction = a.completeSheets
}

// addRows adds the flags that take a part of a sheet.
func (f *sheetFlags) addRows(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.Tab, "tab", "", "the `TAB` of a workbook, or list of a JSON file, if it isn't the one that fits best")
	cmd.Flags().StringVar(&f.Encoding, "encoding", "", "the `NAME` of the encoding of a text file, such as windows-1250, if it isn't UTF-8")
	cmd.Flags().StringVar(&f.Rows, "rows", "", "take only these rows, such as `3-9,12`")
	cmd.Flags().IntVar(&f.First, "first", 0, "take only the first `N` of the rows")
	ofSheet.tell(cmd, "tab", "encoding")
	ofRows.tell(cmd, "rows", "first")
}

func (a *front) checkCommand() *cobra.Command {
	var flags sheetFlags
	var offline, overwrite bool
	var out string
	cmd := &cobra.Command{
		Use:     "check SHEET",
		GroupID: "prepare",
		Short:   "Tell every problem of a sheet, at its row and column; change nothing",
		Long: `Reads the whole sheet and tells every problem at once, each at its row and column
and with what to do about it. Nothing is changed, here or in the system; the system is
only asked which fields it takes, and which groups, courses and licences there are.

With -o the sheet is written again as it came, with the reasons at the right of
each row and, in a workbook, the cells at fault coloured: correct it there and
hand it back in.

Without a brief, recognised headings map themselves.`,
		Example: `  evenledger check starters.csv -b starters
  evenledger check starters.xlsx -b starters -o marked.xlsx
  evenledger check starters.csv --offline        without asking the system
  evenledger check starters.csv -b starters --json`,
		Args: oneOrBrief("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			if out != "" {
				if err := app.MayWrite(out, overwrite, "and may hold corrections"); err != nil {
					return err
				}
				if sheet.SameFile(first(args), out) {
					return wrong(out+" is the sheet itself", "Name another file.")
				}
				if first(args) == sheet.StandardInput {
					return wrong("what is piped in can be read only once, and -o reads the sheet twice", "Save it to a file and name that.")
				}
			}
			a.Offline = offline
			ctx := cmd.Context()
			members, set, err := a.OpenSet(ctx, first(args), flags.Request)
			if err != nil {
				return err
			}
			defer app.CloseSet(members)
			if set != "" && out != "" {
				return wrong(set+" is a set of systems, and -o marks what one of them takes", "Name one of them: --system "+members[0].System)
			}
			return a.check(ctx, members, set, flags, out)
		},
	}
	flags.add(a, cmd)
	cmd.Flags().StringVarP(&out, "output", "o", "", "write the sheet with its faults marked to this `FILE`")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the system which fields it takes")
	return cmd
}

// checkedFor is what checking a sheet for one system of a set came to, as the document has it.
type checkedFor struct {
	System   string            `json:"system"`
	Rows     int               `json:"rows"`
	Fine     int               `json:"fine"`
	Aside    int               `json:"aside"`
	Refused  int               `json:"refused"`
	Findings []account.Finding `json:"findings"`
}

// check checks a sheet for each system that it is for. What cannot be asked leaves the others alone.
func (a *front) check(ctx context.Context, members []app.Member, set string, flags sheetFlags, out string) error {
	bar := a.progress()
	if j := members[0].Job; set == "" && a.json {
		t := app.NewTally(j, out)
		if err := app.ReadThings(ctx, j, bar.stageDone); err != nil {
			return err
		}
		found := t.Findings(ctx, j.Checker(), j.Rows(), func(rows int) { bar.stageDone("checked", rows) })
		told := a.checkJSON(j, t, found)
		_, err := t.WriteMarked(ctx, j)
		return errors.Join(told, err)
	}
	c := &checked{came: []checkedFor{}, set: report.Set{Name: set}}
	for i := range members {
		m := &members[i]
		if m.Err == nil {
			m.Err = app.ReadThings(ctx, m.Job, bar.stageDone)
		}
		if m.Err != nil {
			continue
		}
		t, causes := app.NewTally(m.Job, out), &report.Causes{}
		one := checkedFor{System: m.System, Findings: app.Findings(members, i)}
		causes.AddAll(one.Findings)
		for f, err := range t.Findings(ctx, m.Checker(), m.Rows(), func(rows int) { bar.stageDone("checked", rows) }) {
			if err != nil {
				bar.end()
				return err
			}
			if causes.Add(f); a.json {
				one.Findings = append(one.Findings, f)
			}
		}
		plain, err := t.WriteMarked(ctx, m.Job)
		if err != nil {
			bar.end()
			return err
		}
		if plain != "" {
			a.remark("%s cannot be given back as it was (%s): %s is a plain workbook of its rows.", m.Sheet.Info().Name, plain, out)
		}
		guessed := mapping.GuessedEncoding(m.Sheet.Info())
		causes.AddAll(guessed)
		one.Findings = append(one.Findings, guessed...)
		one.Rows, one.Fine, one.Aside, one.Refused = t.Rows, t.Fine(), t.Aside, t.Refused
		if a.exit = max(a.exit, a.rowsExit(t.Refused)); !m.Sheet.Info().Read.Even() {
			a.exit = max(a.exit, exitRows)
		}
		c.set.Batches = append(c.set.Batches, &batch.Batch{Draft: batch.Draft{System: m.System, Source: batch.Source{Rows: t.Rows, Read: m.Sheet.Info().Read}}})
		c.came, c.systems, c.causes = append(c.came, one), append(c.systems, m.System), append(c.causes, causes)
		if c.of == nil {
			c.of = m.Job
		}
	}
	bar.end()
	troubles := a.tellSystems(ctx, ofMembers(members))
	if a.json {
		return errors.Join(a.writeJSON(map[string]any{"set": set, "systems": c.came}), troubles)
	}
	if c.of == nil {
		return troubles
	}
	next := "evenledger draft " + report.Quoted(c.of.Name) + flags.flags()
	if out != "" {
		next = "evenledger check " + report.Quoted(out) + flags.flags()
	}
	return errors.Join(a.tellChecked(c, answer.LeftTo(members), out, next), troubles)
}

// checked is what checking a sheet came to, for each system that could be asked.
type checked struct {
	of      *app.Job // the first
	came    []checkedFor
	set     report.Set
	systems []string
	causes  []*report.Causes
}

// tellChecked tells it, and what is left to whom.
func (a *front) tellChecked(c *checked, left []string, out, next string) error {
	page, of := a.page(), c.of
	page.Line("%s", answer.About(of.Sheet.Info()))
	page.Read(of.Sheet.Info().Read)
	sides := func(i int) []report.Side {
		return []report.Side{{Label: "Fine", N: c.came[i].Fine}, {Label: "Set aside", N: c.came[i].Aside}, {Label: "Refused", N: c.came[i].Refused}}
	}
	if c.set.Name == "" {
		if !of.Named {
			answer.ReadAs(page, of)
		}
		page.Account([]report.Side{{Label: "Rows in", N: c.came[0].Rows}}, sides(0))
	} else {
		page.Line("")
		page.Sides(c.set, false, sides, page.Bold("even"))
	}
	for _, line := range left {
		page.Line("  %s", page.Dim(line))
	}
	page.Findings(report.Together(c.systems, c.causes))
	if out != "" {
		page.Line("")
		page.Line("%s has the sheet with the reasons beside each row.", out)
	}
	page.Next(next)
	return page.Err()
}

// rowsExit is the exit code where so many rows were refused.
func (a *front) rowsExit(bad int) int {
	if bad > 0 && !a.refusedOK {
		return exitRows
	}
	return exitDone
}

// checkJSON streams the findings; the counts are known only after them, so they
// stand at the end of the document.
func (a *front) checkJSON(j *app.Job, t *app.Tally, found iter.Seq2[account.Finding, error]) error {
	info := j.Sheet.Info()
	info.Read = sheet.Tally{} // it stands at the end, once all is read
	head := map[string]any{"sheet": info, "columns": j.Mapper.Columns()}
	all := func(yield func(account.Finding, error) bool) {
		for _, f := range j.Findings {
			if !yield(f, nil) {
				return
			}
		}
		for f, err := range found {
			if !yield(f, err) {
				return
			}
		}
		for _, f := range mapping.GuessedEncoding(j.Sheet.Info()) {
			if !yield(f, nil) {
				return
			}
		}
	}
	tail := func() any {
		return map[string]any{"read": j.Sheet.Info().Read, "rows": t.Rows, "fine": t.Fine(), "aside": t.Aside, "refused": t.Refused, "encoding": j.Sheet.Info().Encoding}
	}
	err := report.WriteJSON(a.out, head, "findings", all, tail)
	if a.exit = a.rowsExit(t.Refused); !j.Sheet.Info().Read.Even() {
		a.exit = exitRows
	}
	return err
}
