package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

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
		RunE: func(_ *cobra.Command, args []string) error {
			l, err := layout.Load(args[0], a.Today())
			if err != nil {
				return err
			}
			return a.layoutFine(l, args[0])
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

// layoutFine tells what a layout without mistakes says.
func (a *front) layoutFine(l *layout.Layout, path string) error {
	if a.json {
		return a.writeJSON(map[string]any{"layout": l.Name, "format": l.File.Format, "key": l.Key, "headings": l.Headings(), "memberships": l.Kinds(), "problems": []string{}})
	}
	page := a.page()
	page.Line("%s is in order: files of %d columns, in which %s says whose a row is.", path, len(l.Headings()), l.Key)
	page.Text(page.Plain, "Headings: "+strings.Join(l.Headings(), ", "))
	page.Line("A file of batch 17 would be called %s.", l.FileName(17, 1, "VALUE", a.Today()))
	name := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	page.Next(fmt.Sprintf("evenledger fields %s    # once evenledger.yaml says: %s: {kind: files, layout: %s, accounts: EXPORT}", name, name, path))
	return page.Err()
}

// writeFirst writes the first text of a file that a person goes on with, made from another, or shows it where no file is named.
func (a *front) writeFirst(what, text, from, out, check string) error {
	if out == "" {
		if a.json {
			return a.writeJSON(map[string]any{what: text})
		}
		_, err := fmt.Fprint(a.out, text)
		return err
	}
	if _, err := os.Lstat(out); err == nil {
		return wrong(out+" exists already", "Name another file.")
	}
	if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
		return err
	}
	if _, err := app.WriteWhole(out, func(file *os.File) (int, error) { return file.WriteString(text) }); err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"file": out})
	}
	page := a.page()
	page.Line("%s is written from %s.", out, from)
	page.Next(check + out)
	return page.Err()
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
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := compose.Layout(args[0], a.Today())
			if err != nil {
				return err
			}
			if _, err := layout.Parse("layout", []byte(text), a.Today()); err != nil {
				a.remark("Something is still to be filled in: %s", err)
			}
			return a.writeFirst("layout", text, args[0], out, "evenledger layout check ")
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "write it to this `FILE` instead of showing it")
	return cmd
}
