package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/compose"
	"evenledger/internal/profile"
	"evenledger/internal/report"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

func (a *front) briefNewCommand() *cobra.Command {
	var flags sheetFlags
	var name, out string
	var overwrite, offline bool
	cmd := &cobra.Command{
		Use:   "new SHEET",
		Short: "Write a first brief for a sheet, guessed, with comments",
		Long: `Looks through a sheet and writes a first brief for it: its columns as fields, a
formula for the sign-in name if there is none, what finds an account, what is not
used, and what the system wants and the sheet lacks. Look at each line of it before
you use it: what was guessed says so.`,
		Example: `  evenledger brief new starters.xlsx --system crewdesk
  evenledger brief new feed.jsonl --name leavers
  evenledger brief new starters.csv -o -               only print it`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			w, err := a.FindWorkspace()
			if err != nil {
				return err
			}
			s, err := a.look(cmd.Context(), args[0], flags, 0)
			if err != nil {
				return err
			}
			defer s.Close()
			source := &compose.Source{Name: name, System: flags.System, Today: a.Today()}
			if source.Name == "" {
				source.Name = compose.NameOf(s.Info().Name)
			}
			path := out
			if out == "" {
				path = filepath.Join(w.Dir, "briefs", source.Name+".yaml")
			}
			if ext := filepath.Ext(path); path != "-" && ext != ".yaml" && ext != ".yml" {
				return wrong(path+" is not called as a brief", "Let its name end in .yaml, or give - to see it on the screen.")
			}
			if path != "-" && exists(path) && !overwrite {
				return wrong(path+" exists already", "Name the brief otherwise with --name, or give --overwrite.")
			}
			if target, err := w.System(flags.System); err == nil {
				source.System = target.Name
				if !offline {
					source.Schema = a.describe(cmd, target)
				}
			} else if flags.System != "" {
				return wrong(err.Error(), "")
			}
			bar := a.progress()
			source.Profile, err = profile.Of(s.Info(), s.Rows(), func(rows int) { bar.stageDone("looked at", rows) })
			bar.end()
			if err != nil {
				return err
			}
			source.Info = s.Info()
			text := source.Brief()
			source.Keyless = len(source.Match(nil)) == 0
			b, err := brief.Parse(filepath.Base(path), []byte(text), a.BriefOptions(w))
			var problems error
			if err != nil {
				problems = fmt.Errorf("the brief is to be completed by hand: %w", err)
			}
			return a.briefWritten(path, args[0], source, text, b, problems)
		},
	}
	cmd.Flags().StringVar(&flags.System, "system", "", "the `SYSTEM` whose accounts are meant")
	completeFlag(cmd, "system", a.completeTargets)
	cmd.Flags().StringVar(&flags.Tab, "tab", "", "the `TAB` of a workbook")
	cmd.Flags().StringVar(&flags.Encoding, "encoding", "", "the `NAME` of the encoding of a text file")
	cmd.Flags().StringVar(&name, "name", "", "the brief's `NAME`; without it that of the sheet")
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write; - prints it")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a brief that exists")
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the system what it takes")
	return cmd
}

// describe asks a system what it takes; without an answer the work goes on.
func (a *front) describe(cmd *cobra.Command, target workspace.System) *account.Schema {
	client, err := a.Connect(target)
	if err == nil {
		var about *system.Description
		if about, err = client.Describe(cmd.Context()); err == nil {
			return about.Schema
		}
	}
	a.remark("%s could not be asked what it takes (%s); the brief is written without.", target.Name, strings.Split(explained(cmd.Context(), err).message, "\n")[0])
	return nil
}

func (a *front) briefWritten(path, sheetPath string, source *compose.Source, text string, b *brief.Brief, problems error) error {
	if path == "-" {
		if a.json {
			return a.writeJSON(map[string]any{"brief": text})
		}
		_, err := fmt.Fprint(a.out, text)
		if source.Keyless {
			a.exit, problems = exitRows, nil
		}
		return errors.Join(err, problems)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return wrong(err.Error(), "")
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		return wrong(err.Error(), "")
	}
	if source.Keyless {
		a.exit = exitRows
		if a.json {
			return a.writeJSON(map[string]any{"file": path, "brief": source.Name, "columns": len(source.Profile.Columns), "match": []string{}})
		}
		page := a.page()
		page.Line("%s is begun, and to be completed: no column is a sure key, so nothing says which row is whose.", path)
		page.Line("Look for “match” in it; what is not sure stands there as a comment.")
		page.Next("evenledger brief check " + report.Quoted(source.Name) + "    # once “match” is there")
		return page.Err()
	}
	if problems != nil {
		return wrong(problems.Error(), "It is in "+path+".")
	}
	used := 0
	for _, f := range b.Fields {
		if f.From != "" {
			used++
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"file": path, "brief": source.Name, "fields": len(b.Fields), "columns": len(source.Profile.Columns), "used": used, "match": b.Match})
	}
	page := a.page()
	shown := path
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, path); err == nil && len(rel) < len(path) {
			shown = rel
		}
	}
	page.Line("%s: %d fields from %d of %d columns. Accounts are found by %s.", shown, len(b.Fields), used, len(source.Profile.Columns), strings.Join(b.Match, ", then "))
	page.Line("Read it line by line before you use it; what was guessed says so.")
	first := 2
	if source.Info.HeadingRow > 0 {
		first = source.Info.HeadingRow + 1
	}
	page.Next(fmt.Sprintf("evenledger brief try %s -b %s --row %d", report.Quoted(sheetPath), report.Quoted(source.Name), first), fmt.Sprintf("evenledger check %s -b %s", report.Quoted(sheetPath), report.Quoted(source.Name)))
	return page.Err()
}
