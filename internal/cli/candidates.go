package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func (a *front) candidatesCommand() *cobra.Command {
	var flags sheetFlags
	var out string
	var overwrite bool
	cmd := &cobra.Command{
		Use:     "candidates SHEET -b BRIEF -o PAIRS",
		GroupID: "prepare",
		Short:   "Write whom rows may mean that no key finds, for a person to say",
		Long: `For sheets whose rows have no key in common with the system. Compares names and
addresses as people write them (capitals, accents, either order, initials, familiar
forms, a letter mistaken), by the fields that the brief's “match” ends in:

  match: [employeeNumber, {like: [givenName, familyName, email]}]

and writes each row that no key finds with up to three accounts that it may mean, how
sure that is, and why. It never decides: answer beside each row with yes (the first),
2 or 3, new (nobody: a new person), or the user name of another account, and hand the
sheet back in with --pairs. A row without an answer is refused.

Nothing is changed.`,
		Example: `  evenledger candidates crew.csv -b crew -o pairs.xlsx
  evenledger draft crew.csv -b crew --pairs pairs.xlsx`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return wrong("say which file to write", fmt.Sprintf("For example: evenledger candidates %s -b BRIEF -o pairs.xlsx", report.Quoted(args[0])))
			}
			if sheet.SameFile(args[0], out) {
				return wrong(out+" is the sheet itself", "Name another file.")
			}
			a.longWork()
			flags.Compare = true // nothing is made of it
			return a.candidates(cmd.Context(), args[0], flags, out, overwrite)
		},
	}
	flags.add(a, cmd)
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists, with the answers in it")
	return cmd
}

// candidates writes a sheet for each system that the rows are for.
func (a *front) candidates(ctx context.Context, path string, flags sheetFlags, out string, overwrite bool) error {
	members, set, err := a.OpenSet(ctx, path, flags.Request)
	if err != nil {
		return err
	}
	defer app.CloseSet(members)
	pairs := answer.Pairs{Came: map[string]*app.Pairing{}, Draft: "evenledger draft " + report.Quoted(path) + flags.flags()}
	page := a.page()
	for i := range members {
		m := &members[i]
		if m.Err != nil {
			continue
		}
		file := out
		if set != "" {
			ending := filepath.Ext(out)
			file = strings.TrimSuffix(out, ending) + "-" + m.System + ending
		}
		if err := app.MayWrite(file, overwrite, "and may hold answers"); err != nil {
			return err
		}
		bar := a.progress()
		p, err := a.Candidates(ctx, m.Job, file, bar.Stage)
		bar.End()
		if m.Err = err; err != nil {
			continue
		}
		pairs.Add(page, m.System, file, p)
	}
	return errors.Join(page.Err(), a.tell(ctx, pairs), a.tellSystems(ctx, ofMembers(members)))
}
