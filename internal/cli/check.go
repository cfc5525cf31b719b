package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/brief"
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

// check checks a sheet for each system that it is for. What cannot be asked leaves the others alone.
func (a *front) check(ctx context.Context, members []app.Member, set string, flags sheetFlags, out string) error {
	bar := a.progress()
	how := app.Checking{Out: out, Keeps: a.json, Told: bar.Stage}
	if set == "" && a.json {
		one, found, err := app.CheckFindings(ctx, members[0].Job, how)
		if err == nil {
			err = a.writeJSON(answer.CheckStream(one, found))
			a.judge(one.Refused, one.Even)
		}
		return err
	}
	all, err := app.Check(ctx, members, how)
	bar.End()
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.Plain != "" {
			a.remark("%s cannot be given back as it was (%s): %s is a plain workbook of its rows.", one.Job.Sheet.Info().Name, one.Plain, out)
		}
	}
	troubles := a.tellSystems(ctx, ofMembers(members))
	if len(all) == 0 && !a.json {
		return troubles
	}
	next := "evenledger check " + report.Quoted(out) + flags.flags()
	if out == "" {
		next = "evenledger draft " + report.Quoted(all[0].Job.Name) + flags.flags()
	}
	return errors.Join(a.came(ctx, &answer.Checked{Set: set, All: all, Left: answer.LeftTo(members), Out: out, Next: next}), troubles)
}

// rowsExit is the exit code where so many rows were refused.
func (a *front) rowsExit(bad int) int {
	if bad > 0 && !a.refusedOK {
		return exitRows
	}
	return exitDone
}
