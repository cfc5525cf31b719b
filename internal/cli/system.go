package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/description"
	"evenledger/internal/system"
)

func (a *front) systemCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "system",
		GroupID: "prepare",
		Short:   "Describe an application's own web interface, and try it out",
		Example: "  evenledger system new openapi.json -o systems/mooring.yaml\n  evenledger system check systems/mooring.yaml\n  evenledger system try mooring",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.systemNewCommand(), a.systemTryCommand(), &cobra.Command{
		Use:     "check DESCRIPTION",
		Short:   "Tell every mistake in a description, with line and column",
		Example: "  evenledger system check systems/mooring.yaml",
		Args:    one("a description's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			i, err := description.Load(args[0], a.Today())
			if err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Description{Interface: i, Path: args[0]})
		},
	}, &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a description",
		Example: "  evenledger system schema > description.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			schema, err := description.Schema()
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", schema)
			}
			return err
		},
	})
	return cmd
}

func (a *front) systemNewCommand() *cobra.Command {
	out := ""
	cmd := &cobra.Command{
		Use:   "new OPENAPI-FILE",
		Short: "Write a first description from an OpenAPI document",
		Long: `Looks at an application's OpenAPI 3 document for where accounts are listed, read, made
and changed, and writes a description. What was guessed says so in a comment: look at
each line, then try it out.`,
		Example: "  evenledger system new openapi.json -o systems/mooring.yaml",
		Args:    one("an OpenAPI document"),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			text, err := description.Guess(data)
			if err != nil {
				return wrong(fmt.Sprintf("%s: %s", args[0], err), "Describe it by hand: docs/web-systems.md shows how.")
			}
			if _, err := description.Parse("description", []byte(text), a.Today()); err != nil {
				a.remark("Something is still to be filled in: %s", err)
			}
			return a.tellFirst(cmd.Context(), answer.First{What: "description", Text: text, From: args[0], File: out, Check: "evenledger system check "})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "write it to this `FILE` instead of showing it")
	return cmd
}

func (a *front) systemTryCommand() *cobra.Command {
	var flags sheetFlags
	var row int
	var write bool
	cmd := &cobra.Command{
		Use:   "try SYSTEM [SHEET]",
		Short: "Walk through an application's web interface, and show what was understood",
		Long: `Asks for what there is to read, one step after the other, and shows each request, what was
answered, what was understood of it, and what is wrong. Nothing is changed. The request that
would make an account is shown and not sent: of nobody, or of a row of a sheet.

With --write, in a system that evenledger.yaml marks with practice: true, an account is made,
changed, tied, suspended and removed again, and each step is judged.`,
		Example: `  evenledger system try mooring
  evenledger system try mooring starters.xlsx -b starters --as-row 5
  evenledger system try mooring-practice --write`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var as *account.Account
			flags.System = args[0]
			if len(args) == 2 {
				if row < 1 {
					return wrong("say which row", "For example: --as-row 5")
				}
				members, _, err := a.OpenSet(cmd.Context(), args[1], flags.Request)
				if err != nil {
					return err
				}
				defer app.CloseSet(members)
				if members[0].Err != nil {
					return members[0].Err
				}
				if as, err = wantedIn(cmd, members[0].Job, args[1], row); err != nil {
					return err
				}
			}
			target, client, err := a.target(args[:1])
			if err != nil {
				return err
			}
			trier, is := client.(system.Trier)
			if !is {
				return wrong(fmt.Sprintf("%s is spoken to by a standard, and has no description to try out", target.Name), "Look at what it takes with: evenledger fields "+target.Name)
			}
			return a.systemTry(cmd.Context(), target.Name, trier, as, write)
		},
	}
	cmd.Flags().StringVarP(&flags.Brief, "brief", "b", "", "the `BRIEF` of the sheet: its name in briefs/, or a file")
	cmd.Flags().IntVar(&row, "as-row", 0, "show what making the account of this `ROW` would send")
	cmd.Flags().BoolVar(&write, "write", false, "make, change and remove an account, in a system that is there for that")
	completeFlag(cmd, "brief", a.completeBriefs)
	cmd.ValidArgsFunction = a.completeSystems
	return cmd
}

// wantedIn is the account that a row of a sheet wants.
func wantedIn(cmd *cobra.Command, j *app.Job, path string, row int) (*account.Account, error) {
	at, err := j.Row(cmd.Context(), row)
	if err != nil {
		return nil, err
	}
	if at == nil {
		return nil, wrong(fmt.Sprintf("%s has no row %d, or it is blank", path, row), "Rows are numbered as in a spreadsheet program; the headings are a row too.")
	}
	as := j.Account(at)
	return &as, nil
}

func (a *front) systemTry(ctx context.Context, name string, trier system.Trier, as *account.Account, write bool) error {
	walk := answer.Walk{System: name}
	page := a.page()
	if err := trier.Try(ctx, as, write, func(s system.Tried) {
		walk.Add(s)
		answer.Tried(page, len(walk.Steps), s)
	}); err != nil {
		return err
	}
	if walk.Amiss > 0 {
		a.exit = max(a.exit, exitRows)
	}
	return errors.Join(page.Err(), a.tell(ctx, walk))
}
