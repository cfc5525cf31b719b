package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/compose"
	"evenledger/internal/layout"
)

func (a *front) layoutCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "layout",
		GroupID: "prepare",
		Short:   "Write and check the form of the files that an application takes",
		Example: "  evenledger layout new deskbook-empty.csv -o layouts/deskbook.yaml\n  evenledger layout check layouts/deskbook.yaml",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.layoutNewCommand(), &cobra.Command{
		Use:     "check LAYOUT",
		Short:   "Tell every mistake in a layout, with line and column",
		Example: "  evenledger layout check layouts/deskbook.yaml",
		Args:    one("a layout's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := layout.Load(args[0], a.Today())
			if err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Layout{Layout: l, Path: args[0], Today: a.Today()})
		},
	}, &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a layout",
		Example: "  evenledger layout schema > layout.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			schema, err := layout.Schema()
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", schema)
			}
			return err
		},
	})
	return cmd
}

// tellFirst tells the first text of a file that a person goes on with, after it was written to one, if one is named.
func (a *front) tellFirst(ctx context.Context, f answer.First) error {
	if f.File != "" {
		if err := app.WriteNew(f.File, f.Text); err != nil {
			return err
		}
	}
	return a.tell(ctx, f)
}

func (a *front) layoutNewCommand() *cobra.Command {
	out := ""
	cmd := &cobra.Command{
		Use:   "new SAMPLE",
		Short: "Write a first layout from an application's own empty file, or an example",
		Long: `Looks at a file of the application's (its template, an example, or an export of its
accounts) and writes a layout with its columns in their order. What was guessed says so
in a comment: look at each line.`,
		Example: "  evenledger layout new deskbook-empty.csv -o layouts/deskbook.yaml",
		Args:    one("a file of the application's"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := compose.Layout(args[0], a.Today())
			if err != nil {
				return err
			}
			if _, err := layout.Parse("layout", []byte(text), a.Today()); err != nil {
				a.remark("Something is still to be filled in: %s", err)
			}
			return a.tellFirst(cmd.Context(), answer.First{What: "layout", Text: text, From: args[0], File: out, Check: "evenledger layout check "})
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "write it to this `FILE` instead of showing it")
	return cmd
}
